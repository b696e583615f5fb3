"""Which rule of this host's firewall drops or redirects a new connection, from nft's JSON listing
(libnftables-json(5)).

Only certain results are reported: a match that cannot be evaluated here (a limit, a dynamic set, another module) makes
a rule uncertain, and an uncertain rule neither accepts nor drops.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from ipaddress import ip_address, ip_network
from typing import Any

from dacha.core.named import NamedTuple
from dacha.core.network.firewall.iptables import plain_table, program_of
from dacha.core.units import whole_number

# Families whose chains an IPv4 or IPv6 packet passes.
_FAMILIES = {4: ("ip", "inet"), 6: ("ip6", "inet")}
# Headers that exclude each other in a packet (IANA protocol numbers), by nft's names.
_TRANSPORTS = frozenset({"tcp", "udp", "udplite", "sctp", "dccp", "icmp", "icmpv6", "igmp", "esp", "ah", "comp"})
# The kernel allows 16 levels of chains.
_DEEPEST = 16


class Packet(NamedTuple):
    """The first packet of a connection, as a chain sees it; None for unknown properties."""

    version: int
    iifname: str | None
    oifname: str | None
    saddr: str | None
    daddr: str
    protocol: str
    dport: int
    dnat: bool = False
    state: str = "new"


class Culprit(NamedTuple):
    """What drops or redirects the packet: the chain, and the handle of its rule, or None for its policy."""

    family: str
    table: str
    chain: str
    handle: int | None
    # The program whose rules these are, and the base chain of the hook, where an accepting rule would belong.
    by: str = "nft"
    base: str = ""

    def __str__(self) -> str:
        if self.by != "nft":
            what = "its policy" if self.handle is None else f"rule {self.handle}"
            return f"{what} in chain {self.chain} of {self._program}"
        what = "its policy" if self.handle is None else f"the rule with handle {self.handle}"
        return f"{what} in chain {self.chain} of table {self.family} {self.table}"

    @property
    def _program(self) -> str:
        return program_of(self.family, self.by)

    def shown_by(self) -> str:
        """The command that shows it."""
        if self.by != "nft":
            return f"{self._program} -t {plain_table(self.table)} -L {self.chain} -v --line-numbers"
        return f"nft -a list chain {self.family} {self.table} {self.chain}"


class _Chains:
    def __init__(self, listing: Mapping[str, Any], worst: bool = False) -> None:
        self.worst = worst
        self.base: list[dict[str, Any]] = []
        self.rules: dict[tuple[str, str, str], list[dict[str, Any]]] = {}
        for entry in listing.get("nftables", ()):
            if "chain" in entry and "hook" in entry["chain"]:
                self.base.append(entry["chain"])
            elif "rule" in entry:
                rule = entry["rule"]
                self.rules.setdefault((rule["family"], rule["table"], rule["chain"]), []).append(rule)


def dropped_by(
    listing: Mapping[str, Any], hook: str, packet: Packet, own: str, *, worst: bool = False
) -> Culprit | None:
    """What certainly drops the packet at a hook; None if nothing certainly does. With `worst`, what may drop it: each
    uncertain rule counts as the one that drops. Tables whose name begins with `own` are skipped."""
    chains = _Chains(listing, worst)
    families = _FAMILIES[packet.version]
    at_hook = [c for c in chains.base if c["hook"] == hook and c["family"] in families and c.get("type") == "filter"]
    for chain in sorted(at_hook, key=lambda c: c.get("prio", 0)):
        if chain["table"].startswith(own):
            continue
        where = (chain["family"], chain["table"], chain["name"])
        verdict, rule, doubt = _walk(chains, where, packet, 0)
        if verdict == "drop" and not doubt:
            place = rule[1] if rule else where
            handle = rule[0] if rule else None
            return Culprit(place[0], place[1], place[2], handle, chain.get("by", "nft"), chain["name"])
        if verdict is None and chain.get("policy") == "drop" and not doubt:
            return Culprit(*where, None, chain.get("by", "nft"), chain["name"])
    return None


def led_by(listing: Mapping[str, Any], hook: str, packet: Packet, own: str, before: int) -> Culprit | None:
    """The rule that certainly redirects the connection at a hook, in a chain with a priority below `before`; None if
    none certainly does."""
    chains = _Chains(listing)
    at_hook = [c for c in chains.base if c["hook"] == hook and c.get("type") == "nat" and c.get("prio", 0) < before]
    for chain in sorted(at_hook, key=lambda c: c.get("prio", 0)):
        where = (chain["family"], chain["table"], chain["name"])
        if chain["table"].startswith(own) or chain["family"] not in _FAMILIES[packet.version]:
            continue
        verdict, rule, doubt = _walk(chains, where, packet, 0)
        if verdict == "led" and rule and not doubt:
            return Culprit(*rule[1], rule[0], chain.get("by", "nft"), chain["name"])
    return None


_Where = tuple[str, str, str]
_Outcome = tuple[str | None, tuple[int, _Where] | None, bool]


def _walk(chains: _Chains, where: _Where, packet: Packet, depth: int) -> _Outcome:
    """accept, drop, led (redirected) or None (no verdict), the deciding rule, and whether an uncertain rule before it
    may have accepted the packet. (An uncertain drop before a certain drop changes nothing.)"""
    doubt = False
    for rule in chains.rules.get(where, ()) if depth < _DEEPEST else ():
        matches, verdict, target = _read(rule.get("expr", ()), packet)
        if matches is False or verdict is None:
            continue
        by: tuple[int, _Where] | None = (rule["handle"], where)
        if verdict in ("jump", "goto"):
            word = verdict
            verdict, by, unsure = _walk(chains, (where[0], where[1], target), packet, depth + 1)
            doubt |= unsure
            if verdict is None:
                if word == "goto" and matches:
                    return None, None, doubt
                continue
        if matches is None:
            if chains.worst and verdict == "drop":
                return verdict, by, False
            doubt |= verdict != "drop" and not chains.worst
        elif verdict == "return":
            return None, None, doubt
        else:
            return verdict, by, doubt
    return None, None, doubt


def _read(expressions: Iterable[Mapping[str, Any]], packet: Packet) -> tuple[bool | None, str | None, str]:
    """Whether a rule matches (None: uncertain), its verdict, and the target of a jump."""
    matches: bool | None = True
    for e in expressions:
        if "match" in e:
            one = _match(e["match"], packet)
            if one is False:
                return False, None, ""
            matches = None if one is None else matches
        elif "accept" in e:
            return matches, "accept", ""
        elif "drop" in e or "reject" in e:
            return matches, "drop", ""
        elif "dnat" in e or "redirect" in e:
            return matches, "led", ""
        elif "return" in e:
            return matches, "return", ""
        elif "jump" in e or "goto" in e:
            word = "jump" if "jump" in e else "goto"
            return matches, word, e[word]["target"]
        elif not e.keys() & {"counter", "log", "mangle", "masquerade", "notrack"}:
            matches = None
    return matches, None, ""


def _match(match: Mapping[str, Any], packet: Packet) -> bool | None:
    have = _left(match["left"], packet)
    if have is None:
        return None
    found = _within(match["right"], have)
    if found is None:
        return None
    return found if match["op"] in ("==", "in") else not found if match["op"] == "!=" else None


def _left(left: Any, packet: Packet) -> Iterable[str] | None:
    """The packet's value for the left side of a match: several words if it has several (a new connection that was
    redirected)."""
    if not isinstance(left, dict):
        return None
    value: object = None
    if "meta" in left:
        nfproto = "ipv4" if packet.version == 4 else "ipv6"
        values = {"iifname": packet.iifname, "oifname": packet.oifname, "l4proto": packet.protocol, "nfproto": nfproto}
        value = values.get(left["meta"]["key"])
    elif "payload" in left and "field" in left["payload"]:
        header, field = left["payload"].get("protocol"), left["payload"]["field"]
        if header in ("ip", "ip6"):
            if (header == "ip6") != (packet.version == 6):
                return ()
            value = {"saddr": packet.saddr, "daddr": packet.daddr, "protocol": packet.protocol}.get(field)
        elif header in _TRANSPORTS and header != packet.protocol:
            return ()  # The packet has no such header.
        elif header in ("tcp", "udp", "th"):
            value = packet.dport if field == "dport" else None
    elif "fib" in left:
        if left["fib"].get("result") == "type" and left["fib"].get("flags") == ["daddr"]:
            # A packet without an output interface, or with loopback, is for this host itself.
            value = "local" if packet.oifname in (None, "lo") else "unicast"
    elif "ct" in left:
        if left["ct"].get("key") == "state":
            value = packet.state
        elif left["ct"].get("key") == "status":
            return ("dnat",) if packet.dnat else ("none",)
    return None if value is None else (str(value),)


def _within(right: Any, have: Iterable[str]) -> bool | None:
    """True if the packet's value equals or is contained in the rule's value."""
    doubtful = False
    for wanted in _alternatives(right):
        for value in have:
            one = _equal(wanted, value)
            if one:
                return True
            doubtful |= one is None
    return None if doubtful else False


def _alternatives(right: Any) -> Iterator[Any]:
    if isinstance(right, dict) and "set" in right:
        inside = right["set"]
        for element in inside if isinstance(inside, list) else [inside]:
            yield element["elem"]["val"] if isinstance(element, dict) and "elem" in element else element
    elif isinstance(right, list):
        yield from right
    else:
        yield right


def _equal(wanted: Any, value: str) -> bool | None:
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
    if text.startswith("@"):
        return None  # a set that other programs fill
    if text.endswith("*"):
        return value.startswith(text[:-1])
    return text == value
