"""Whether a rule of a firewall matches a packet, by the rule's JSON form (libnftables-json(5)).

Three answers: yes, no, and None where it cannot be known here: a limit, a mark, a module, an unknown property.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from ipaddress import ip_address, ip_network
from typing import Any

from dacha.core.named import NamedTuple
from dacha.core.units import whole_number

# Headers that exclude each other in a packet (IANA protocol numbers), by nft's names.
_TRANSPORTS = frozenset({"tcp", "udp", "udplite", "sctp", "dccp", "icmp", "icmpv6", "igmp", "esp", "ah", "comp"})
# The elements of each named set and map of a table, by name.
Sets = Mapping[str, list[Any]]
# A client's own port, of which only this is known (RFC 6056 section 3.2), and its word among a packet's values.
_SOME_PORT, _SOME = (1024, 65535), "some port of a client"


class Packet(NamedTuple):
    """A packet of a connection, as a chain sees it: None for an unknown property, for a port if it is any of a
    client's, 0 for a port of which nothing is known; "" for an interface that packets do not have at that hook. `state`
    is the connection's, as conntrack has it ("" if that is not known); `local` tells whether the packet is for this
    host itself, if that does not follow from its interfaces."""

    version: int
    iifname: str | None
    oifname: str | None
    saddr: str | None
    daddr: str | None
    protocol: str
    dport: int | None
    dnat: bool = False
    state: str = "new"
    sport: int | None = None
    local: bool | None = None


def matches(match: Mapping[str, Any], packet: Packet, sets: Sets) -> bool | None:
    """Whether one match of a rule holds. One of a header that the packet does not have never holds."""
    if any(_value(part, packet) == () for part in _parts(match["left"])):
        return False
    found = holds(match["left"], match["right"], packet, sets)
    if found is None or (match["op"] == "!=" and _is_status(match["left"])):
        return None
    return found if match["op"] in ("==", "in") else not found if match["op"] == "!=" else None


def holds(left: Any, right: Any, packet: Packet, sets: Sets) -> bool | None:
    """Whether the packet's value of `left` equals `right`, or is contained in it."""
    have = [_value(part, packet) for part in _parts(left)]
    doubtful = False
    for wanted in _alternatives(right, sets):
        words = _parts(wanted)
        if wanted is None or len(words) != len(have):
            doubtful = True
            continue
        each = [_among(w, values) for w, values in zip(words, have, strict=True)]
        if all(one is True for one in each):
            return True
        doubtful |= False not in each
    return None if doubtful else False


def _is_status(left: Any) -> bool:
    """Whether a match is about a connection's status: with "!=", nft compares all of its bits at once."""
    return isinstance(left, dict) and "ct" in left and left["ct"].get("key") == "status"


def _parts(side: Any) -> list[Any]:
    """The parts of a concatenation; else the one part."""
    return list(side["concat"]) if isinstance(side, dict) and "concat" in side else [side]


def _value(left: Any, packet: Packet) -> tuple[str, ...] | None:
    """The packet's value for the left side of a match: several words if it has several (a new connection that was
    redirected); None if it is not known."""
    if not isinstance(left, dict):
        return None
    value: object = None
    if "meta" in left:
        value = _meta(left["meta"]["key"], packet)
    elif "payload" in left and "field" in left["payload"]:
        header, field = left["payload"].get("protocol"), left["payload"]["field"]
        if header in ("ip", "ip6"):
            if (header == "ip6") != (packet.version == 6):
                return ()
            value = {"saddr": packet.saddr, "daddr": packet.daddr, "protocol": packet.protocol}.get(field)
        elif header == "ether":
            value = _ether_type(packet) if field == "type" else None
        elif header in _TRANSPORTS and header != packet.protocol:
            return ()  # The packet has no such header.
        elif header in ("tcp", "udp", "th"):
            port = {"dport": packet.dport, "sport": packet.sport}.get(field, 0)
            value = _SOME if port is None else port or None
    elif "fib" in left:
        if left["fib"].get("result") == "type" and left["fib"].get("flags") == ["daddr"]:
            # A packet without an output interface, or with loopback, is for this host itself.
            here = packet.oifname in (None, "", "lo") if packet.local is None else packet.local
            value = "local" if here else "unicast"
    elif "ct" in left:
        if left["ct"].get("key") == "state":
            value = packet.state or None
        elif left["ct"].get("key") == "status":
            return ("dnat",) if packet.dnat else ("none",)
    return None if value is None else (str(value),)


def _meta(key: str, packet: Packet) -> str | None:
    if key == "nfproto":
        return "ipv4" if packet.version == 4 else "ipv6"
    if key == "protocol":
        return _ether_type(packet)
    # An interface is listed by its name also where the rule has its number.
    known = {"iifname": packet.iifname, "iif": packet.iifname, "oifname": packet.oifname, "oif": packet.oifname}
    return known.get(key, packet.protocol if key == "l4proto" else None)


def _ether_type(packet: Packet) -> str:
    return "ip" if packet.version == 4 else "ip6"


def _among(wanted: Any, have: Iterable[str] | None) -> bool | None:
    if have is None:
        return None
    each = [_equal(wanted, value) for value in have]
    return True if True in each else None if None in each else False


def _alternatives(right: Any, sets: Sets) -> Iterator[Any]:
    """Each value that a rule names; None for those that are not known."""
    if isinstance(right, dict) and "set" in right:
        inside = right["set"]
        yield from map(plain, inside if isinstance(inside, list) else [inside])
    elif isinstance(right, list):
        yield from right
    elif isinstance(right, str) and right.startswith("@"):
        # What is in it at this moment.
        yield from map(plain, sets[right[1:]]) if right[1:] in sets else [None]
    else:
        yield right


def plain(element: Any) -> Any:
    """An element of a set without its comment, counter and time."""
    return element["elem"]["val"] if isinstance(element, dict) and "elem" in element else element


def _equal(wanted: Any, value: str) -> bool | None:
    if value == _SOME:
        return _covers(wanted)
    if isinstance(wanted, dict):
        try:
            if "prefix" in wanted:
                subnet = ip_network(f"{wanted['prefix']['addr']}/{wanted['prefix']['len']}", strict=False)
                return ip_address(value) in subnet
            if "range" in wanted:
                low, high = wanted["range"]
                number = whole_number(value)
                if number is not None:
                    return int(low) <= number <= int(high)
                return int(ip_address(low)) <= int(ip_address(value)) <= int(ip_address(high))
        except (ValueError, TypeError):
            return None
        return None
    text = str(wanted)
    if text.endswith("*"):
        return value.startswith(text[:-1])
    return text == value


def _covers(wanted: Any) -> bool | None:
    """Whether a value is, or contains, some port of a client."""
    try:
        first, last = map(int, wanted["range"] if isinstance(wanted, dict) else (wanted, wanted))
    except (KeyError, TypeError, ValueError):
        return None
    if last < _SOME_PORT[0] or first > _SOME_PORT[1]:
        return False
    return True if first <= _SOME_PORT[0] and last >= _SOME_PORT[1] else None
