"""The evidence of a trace from inside a guest outwards, and what of it the guest reports."""

from __future__ import annotations

from ipaddress import ip_address

from dacha.core.named import NamedTuple
from dacha.core.network.uplink import Cut
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.results import ConnectResult, Dropped, Unforwarded
from dacha.core.units import whole_number

# The result of a connection that the guest made.
GOT_IN, TURNED_AWAY, TIMED_OUT, NOT_TRIED = "got in", "turned away", "timed out", "not tried"


class Near(NamedTuple):
    """The next machine on this host's way to a target: its address, the link, whether it is a router, what disconnects
    that link, and whether the machine answers ARP (None: not asked)."""

    address: str
    link: str
    router: bool
    cut: Cut | None = None
    answers: bool | None = None


class Outward(NamedTuple):
    """The evidence. `target` is the requested machine, `port` its TCP port, `where` how the guest's network is carried
    ("kernel", "user", "own"), `kind` its kind; `by` is how the guest was queried, "" if it was not, and `mute` why
    not. Inside: `servers` are its name servers, `found` the addresses that it has for the name, `way` its route
    there ("" for none, None if not reported), `gateway_state` the state of its gateway's neighbour entry (ip-
    neighbour(8)), `tried` the result of its own connection, `said` its message. On this host: `known` are the
    addresses that it has for the name, `host` the result of its own connection, `routed` whether it has a route
    there, `near` the next machine on its way, if that connection fails, `refuses` the lab's rule that blocks the guest
    (what, remedy), `dropped` another program's; `forwarding` is whether this host forwards at all, `unforwarded` what
    of this connection the kernel does not forward."""

    guest: str
    target: str
    port: int
    state: str = "on"
    network: str = ""
    kind: str = ""
    where: str = ""
    isolated: bool = False
    planned: str = ""
    prefix: int = 0
    gateway: str = ""
    hardware: str = ""
    by: str = ""
    mute: str = ""
    inside: Inside | None = None
    servers: tuple[str, ...] = ()
    found: tuple[str, ...] = ()
    way: str | None = None
    gateway_state: str = ""
    tried: str = NOT_TRIED
    said: str = ""
    known: tuple[str, ...] = ()
    host: ConnectResult | None = None
    routed: bool | None = None
    near: Near | None = None
    refuses: tuple[str, str] | None = None
    dropped: Dropped | None = None
    forwarding: bool | None = None
    unforwarded: Unforwarded | None = None
    rules_missing: tuple[str, str] | None = None

    @property
    def named(self) -> bool:
        """True if the target is a name."""
        return not _is_address(self.target)

    @property
    def by_ipv6(self) -> bool:
        """True for a target that is an IPv6 address."""
        return ":" in self.target

    @property
    def ip(self) -> str:
        """The command for routes of its family (ip-route(8))."""
        return "ip -6" if self.by_ipv6 else "ip"

    @property
    def from_here(self) -> str:
        """The address that this host connects to: never one that only the guest reported."""
        return next(iter(self.known), "") if self.named else self.target

    @property
    def address(self) -> str:
        """The target's address: as the guest has it, else as this host does."""
        return next(iter((*self.found, *self.known)), "") if self.named else self.target


def read_way(text: str, o: Outward) -> Outward:
    """Add what the guest reported (`way_script`, `target_script`). Malformed lines and invalid addresses are
    skipped."""
    for line in text.splitlines()[:100]:
        word, _, rest = line.strip()[:300].partition(" ")
        match word:
            case "resolver" if _is_address(rest):
                o = o._replace(servers=(*o.servers, rest))
            case "resolved" if rest not in o.found and _is_address(rest):
                o = o._replace(found=(*o.found, rest))
            case "way":
                o = o._replace(way=rest)
            case "neighbour":
                o = o._replace(gateway_state=rest.split()[-1] if rest else "")
            case "tried":
                code, _, words = rest.partition(" ")
                low, number = words.lower(), whole_number(code)
                result = GOT_IN if number == 0 else TURNED_AWAY if "refused" in low else TIMED_OUT
                o = o._replace(tried=NOT_TRIED if number is None else result, said=words)
            case _:
                continue
    return o


def _is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True
