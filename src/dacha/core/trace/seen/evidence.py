"""The evidence of the path to one service, as plain values: gathered on the host, judged in `core.trace`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.endpoint import Endpoint
from dacha.core.heard import Heard
from dacha.core.named import NamedTuple
from dacha.core.network.confinement import Confinement
from dacha.core.trace.seen.inside import Inside

if TYPE_CHECKING:
    from dacha.core.apply.waiting import Waiting
    from dacha.core.lab.kinds import Origin, Way

# How a user gets into a guest: an agent that runs commands, a login, a shell on its console, a password for the
# console; UNKNOWN if none of these is known, NOBODY if there is none.
AGENT, LOGIN, SHELL, PASSWORD, UNKNOWN, NOBODY = "agent", "login", "shell", "password", "unknown", "nobody"
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
    `entered`."""

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


class Evidence(NamedTuple):
    """All evidence. None means unknown or not applicable."""

    guest: str
    door: str
    service: str
    system: str
    port: int
    way: Way
    origin: Origin
    place: Endpoint | None = None  # where the door is entered from its origin
    away: bool = False  # closed to the LAN at the place where this host is
    network: str = ""
    lab_error: tuple[str, str] | None = None
    not_applied: Waiting | None = None
    moves: str | None = None  # the guest's address from its next start on
    state: str = "on"
    status: str = ""
    room: tuple[int, str] | None = None  # free space for its disks at the tightest place: bytes, and the folder
    since_s: float | None = None
    stopped_on_purpose: bool = False
    last_run: LastRun | None = None  # of a guest that is off
    panic: str | None = None
    console_empty: bool = False  # no console output since its start
    more_memory: str = ""  # twice its memory, as a command accepts it
    booted: str | None = None
    agent: bool = False
    agent_runs: bool | None = None  # whether it runs commands; None if that was not tried
    console: str = ""  # access to its console: a "shell" is open, a user has a "password", "" if unknown
    took_s: float = 0.0  # duration of all questions so far
    carried: Carried | None = None
    address: str | None = None
    planned: str = ""  # its address in the lab file
    prefix: int = 0
    gateway: str = ""  # of its network, as the guest should have it
    handed_out: bool = False
    caretaker: bool | None = None
    seen_address: str | None = None
    seen_age_s: float | None = None
    hardware: str = ""
    model: str = ""
    frames: int | None = None  # number of frames that the guest has sent since its link was created
    answered: tuple[str, ...] | None = None
    answered_ms: float = 0.0
    route: tuple[str, str] | None = None  # the link that packets take, and the one that they should take
    forward: bool | None = None
    held_by: str | None = None
    direct: ConnectResult | None = None
    arrived: bool | None = None  # in user mode: whether the guest itself has the connection that QEMU accepted
    elsewhere: tuple[int, ...] = ()
    key: bool | None = None
    login: LoginSeen | None = None
    inside: Inside | None = None
    reply: ConnectResult | None = None
    rule: str | None = None  # "there", "missing", or another target
    rules_changed: bool = False
    confinement: Confinement | None = None
    forwarding: bool | None = None
    dropped: tuple[str, str] | None = None
    allowed: tuple[str, ...] = ()
    asker: str | None = None
    admitted: bool | None = None
    on_loopback: bool = False  # whether the door listens on this host's loopback only
    lan_address: str | None = None
    told_address: str | None = None  # this host's LAN address, as last printed
    through: ConnectResult | None = None
    router: RouterSeen | None = None
    there: ThereSeen | None = None
    sizes: tuple[int, ...] | None = None  # packet sizes whose echo replies arrived
    taken: tuple[str, str] | None = None  # what redirects it first, and the command that shows that
    led: tuple[str, int] | None = None  # where the kernel forwarded our own connection
    certificate: Certificate | None = None
    now: float = 0.0
    name: str = ""  # the guest's name in the lab's domain, the server queried, and its answer
    name_server: str = ""
    named: tuple[str, ...] | None = None
    untold: str = ""  # why some evidence could not be gathered
    unanswered: tuple[tuple[str, str], ...] = ()  # hops whose question failed, and why
    interrupted: bool = False  # by the user, with Ctrl-C
    returned: bool = False  # whether its port refused at first, and serves now
    mute: str = ""  # why the guest itself could not be queried, if that would have shown more

    @property
    def by(self) -> str:
        """How a user gets into the guest to fix something there (`advice`)."""
        if self.agent_runs or (self.agent and self.agent_runs is None):
            return AGENT
        told_by_login = self.inside is not None and self.agent_runs is False
        if told_by_login or (self.login is not None and self.login.result == IN and self.service == "ssh"):
            return LOGIN
        return self.console or UNKNOWN
