"""What single questions of a trace found: a connection, a login, a link, a certificate, the router, another machine."""

from __future__ import annotations

from dacha.core.heard import Heard
from dacha.core.named import NamedTuple

OPEN, REFUSED, REJECTED, SILENT, UNREACHABLE = "open", "refused", "rejected", "silent", "unreachable"


class ConnectResult(NamedTuple):
    """The result of connecting to a port: `how` it went, and the service's answer if it was open; our source port, the
    largest packet (bytes, with headers) of that connection, the time to the first answer (seconds; without one, the
    time waited), and the kind of answer."""

    how: str
    ok: bool = False
    seen: str = ""
    source_port: int = 0
    largest: int = 0
    after_s: float = 0.0
    heard: Heard = Heard.ANSWER


def accepted(heard: Heard) -> ConnectResult:
    """An open port whose answer was of this kind."""
    return ConnectResult(OPEN, False, str(heard), heard=heard)


class Certificate(NamedTuple):
    """A TLS certificate: its name, the protocol's version, its validity (Unix seconds), and whether it is
    self-signed."""

    name: str
    version: str
    begins: float
    ends: float
    own: bool


class Carried(NamedTuple):
    """A kernel network's links as observed: the guest's tap or macvtap, and the bridge that it should be a port of."""

    name: str
    there: bool
    up: bool
    held: bool
    master: str | None
    wanted: str | None
    bridge_there: bool
    bridge_up: bool
    hardware: str = ""  # this host's hardware address on the bridge
    bridge_arp: bool = True
    lost: str = ""  # the address that the bridge should have, and has not


class RouteSeen(NamedTuple):
    """The way of this host's own packets to the guest: the `link` that they take, the one that they should take
    (`wanted`), their `source`, and the kernel's reason if it `refused` to send any from there."""

    link: str
    wanted: str
    source: str = ""
    refused: str = ""


class Unforwarded(NamedTuple):
    """What the kernel does not forward as it should: packets that arrive by `link`, from `source` to `to`. They go to
    the link `goes` ("" for none, with the kernel's reason) instead of `wanted`. `off` if forwarding is off there."""

    link: str
    source: str
    to: str
    wanted: str
    goes: str = ""
    reason: str = ""
    off: bool = False


class Dropped(NamedTuple):
    """A rule of another program that drops packets of a connection: in words, the command that shows it, whether it
    drops the replies (`back`), whether `apply --open-firewall` adds a rule that helps, and whether it may drop ARP as
    well (`below_ip`: a rule of a bridge or a device)."""

    what: str
    shown: str
    back: bool = False
    openable: bool = False
    below_ip: bool = False

    def words(self) -> str:
        return f"{self.what} drops {'the replies' if self.back else 'it'}"


class RouterSeen(NamedTuple):
    """The router: its address ("" if there is none), its protocol, the outside address that it reported, and errors of
    the requests.

    `mapped` is the state of the outside `port`: "there", "forgotten", "lapsed", "missing", or another target; None if
    unknown. `shut` means that it accepted requests earlier and refuses them now. `hairpin` is the result of connecting
    to the outside address from this side.
    """

    router: str = ""
    speaks: str = ""
    address: str = ""
    port: int = 0
    mapped: str | None = None
    trouble: str = ""
    there: bool | None = None
    shut: bool = False
    by_hand: str = ""
    above: str | None = None
    hairpin: ConnectResult | None = None


# Results of a login; with NO_ANSWER it did not finish.
IN, REFUSED_LOGIN, PUT_OUT, NO_ANSWER = "in", "refused", "put out", "no answer"


class LoginSeen(NamedTuple):
    """The result of a login: the user, the keys (files; none if no private one is here), the result ("in", "refused",
    "put out", "no answer"), the cause that the client's messages prove ("" for none), their last line, the final
    characters of the user's public keys, and their types. For SSH also the progress: the fingerprint of the presented
    `host_key`, the `methods` that the server still offers, whether it `accepted` a key, and whether the user
    `entered`. `not_added`: by the guest's record, none of these keys was added to it yet."""

    user: str
    keys: tuple[str, ...] = ()
    result: str = ""
    cause: str = ""
    said: str = ""
    tails: tuple[str, ...] = ()
    types: tuple[str, ...] = ()
    strange: tuple[str, ...] = ()  # other keys that open the account, by readable names
    host_key: str = ""
    methods: tuple[str, ...] = ()
    accepted: bool = False
    entered: bool = False
    code: int | None = None  # the exit code of the session, if it is the shell's own
    not_added: bool = False


class LastRun(NamedTuple):
    """The last run of a guest that is off: whether it was since this host's boot, why it ended, as the log says it (""
    if not known), and the end of its console output."""

    this_boot: bool
    end: str = ""
    console: str = ""


class ThereSeen(NamedTuple):
    """The result of connecting from another `machine` (USER@HOST) through its SSH server: None if that machine could
    not be used, and why."""

    machine: str
    result: ConnectResult | None = None
    why: str = ""
