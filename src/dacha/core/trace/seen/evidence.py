"""What was seen of the way to one service, as plain values: gathered on the host, judged in `core.trace`."""

from __future__ import annotations

from dacha.core.heard import Heard
from dacha.core.named import NamedTuple
from dacha.core.network.confinement import Confinement
from dacha.core.trace.seen.inside import Inside

# By what a person gets into a guest: an agent that runs commands, a login, the console's shell, a password there; where
# none of these is known, whatever it has.
AGENT, LOGIN, SHELL, PASSWORD, UNKNOWN, NOBODY = "agent", "login", "shell", "password", "unknown", "nobody"
OPEN, REFUSED, REJECTED, SILENT, UNREACHABLE = "open", "refused", "rejected", "silent", "unreachable"


class ConnectResult(NamedTuple):
    """What came of connecting to a port: `how` it went, and what the service said where it was open; from which port
    of ours, how large (bytes, with headers) the packets of that connection may be, how long its first words took
    (seconds; without any, how long they were waited for), and what kind of answer it was."""

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
    """A TLS certificate: whom it names, the protocol's version, from and until when it holds (Unix seconds), and
    whether it is signed by itself."""

    name: str
    version: str
    begins: float
    ends: float
    own: bool


class Carried(NamedTuple):
    """A kernel network's links as they are: the guest's tap or macvtap, and what it should be a port of."""

    name: str
    there: bool
    up: bool
    held: bool
    master: str | None
    wanted: str | None
    bridge_there: bool
    bridge_up: bool


class RouterSeen(NamedTuple):
    """The router above this host: its address ("" when there is none to ask), what it can be asked by, the outside
    address that it told, and what is wrong with asking it.

    `mapped` is what it does with the outside `port`: "there", "forgotten", "lapsed", "missing", or where it leads
    instead; None when that is not known. It is `shut` when it took questions once and refuses them now. `hairpin` is
    what came of entering at the outside address from this side.
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


# What comes of a login; with NO_ANSWER nothing more was said on it.
IN, REFUSED_LOGIN, PUT_OUT, NO_ANSWER = "in", "refused", "put out", "no answer"


class LoginSeen(NamedTuple):
    """What came of a login: who, with which keys (files; none where no private one is here), its result ("in",
    "refused", "put out", "no answer"), the cause that the client's words prove ("" for none), their last line, and the
    last letters of the public keys that are the user's. Of an SSH login also how far it came: the fingerprint of the
    `host_key` that was shown, the `methods` that the server would still take, whether it `accepted` a key, and whether
    the user `entered`."""

    user: str
    keys: tuple[str, ...] = ()
    result: str = ""
    cause: str = ""
    said: str = ""
    tails: tuple[str, ...] = ()
    strange: tuple[str, ...] = ()  # other keys that open the account, as people tell them apart
    host_key: str = ""
    methods: tuple[str, ...] = ()
    accepted: bool = False
    entered: bool = False


class LastRun(NamedTuple):
    """How a guest that is off ran last: whether since this host was started, what QEMU said at the end, what its own
    console did, and why the kernel killed it ("" for what is not told)."""

    this_boot: bool
    log: str = ""
    console: str = ""
    killed: str = ""


class ThereSeen(NamedTuple):
    """What came of entering from another `machine` (USER@HOST), by way of its SSH: None where that machine could not be
    asked, and why."""

    machine: str
    result: ConnectResult | None = None
    why: str = ""


class Evidence(NamedTuple):
    """Everything that was seen. None is what could not be told or does not apply."""

    guest: str
    door: str
    service: str
    system: str
    port: int
    way: str  # "kernel", "user", "own"
    origin: str  # "host", "lan", "outside"
    place: str = ""
    network: str = ""
    lab_error: tuple[str, str] | None = None
    not_applied: tuple[str, str] | None = None  # what the door waits for, and the command that ends the wait
    moves: str | None = None  # where the guest will be from its next start on
    state: str = "on"
    status: str = ""
    room: tuple[int, str] | None = None  # for its disks, where it is least: bytes that are free, and in which folder
    since_s: float | None = None
    stopped_on_purpose: bool = False
    last_run: LastRun | None = None  # of a guest that is off
    panic: str | None = None
    console_empty: bool = False  # nothing on its serial console since it started
    more_memory: str = ""  # twice the memory that it has, as a command takes it
    booted: str | None = None
    agent: bool = False
    agent_runs: bool | None = None  # whether it runs what it is asked to; None if that was not tried
    console: str = ""  # who can log in there: a "shell" is open, somebody has a "password", "" if nobody is known
    took_s: float = 0.0  # how long all that was asked so far has taken
    carried: Carried | None = None
    address: str | None = None
    planned: str = ""  # its address, as the lab has it
    prefix: int = 0
    gateway: str = ""  # of its network, as it should be in the guest
    handed_out: bool = False
    caretaker: bool | None = None
    seen_address: str | None = None
    seen_age_s: float | None = None
    hardware: str = ""
    model: str = ""
    frames: int | None = None  # how many the guest has sent since its link was made
    answered: tuple[str, ...] | None = None
    answered_ms: float = 0.0
    route: tuple[str, str] | None = None  # the link that it leads to, and the one that it should
    forward: bool | None = None
    held_by: str | None = None
    direct: ConnectResult | None = None
    arrived: bool | None = None  # in user mode: whether the guest itself has the connection that QEMU accepted
    elsewhere: tuple[int, ...] = ()
    key: bool | None = None
    login: LoginSeen | None = None
    inside: Inside | None = None
    reply: ConnectResult | None = None
    rule: str | None = None  # "there", "missing", or where it leads instead
    rules_changed: bool = False
    confinement: Confinement | None = None
    forwarding: bool | None = None
    dropped: tuple[str, str] | None = None
    allowed: tuple[str, ...] = ()
    asker: str | None = None
    admitted: bool | None = None
    on_loopback: bool = False  # of this host, and nowhere else, is where the door listens
    lan_address: str | None = None
    told_address: str | None = None  # this host's on the LAN, when it was said last
    through: ConnectResult | None = None
    router: RouterSeen | None = None
    there: ThereSeen | None = None
    sizes: tuple[int, ...] | None = None  # of packets whose echoes come back
    taken: tuple[str, str] | None = None  # what leads it elsewhere first, and the command that shows that
    led: tuple[str, int] | None = None  # where the kernel led our own connection
    certificate: Certificate | None = None
    now: float = 0.0
    name: str = ""  # the guest's in the lab's domain, whom we asked for it, and what that said
    name_server: str = ""
    named: tuple[str, ...] | None = None
    untold: str = ""  # why some of it could not be asked
    unanswered: tuple[tuple[str, str], ...] = ()  # hops whose question came to nothing, and why
    interrupted: bool = False  # by a person who wanted what is known
    mute: str = ""  # why the guest itself could not be asked, where that would have told more

    @property
    def by(self) -> str:
        """By what a person gets into the guest to mend something there (`advice`)."""
        if self.agent_runs or (self.agent and self.agent_runs is None):
            return AGENT
        told_by_login = self.inside is not None and self.agent_runs is False
        if told_by_login or (self.login is not None and self.login.result == IN and self.service == "ssh"):
            return LOGIN
        return self.console or UNKNOWN
