"""The evidence of the path to one service, as plain values, a record for each part of the path: gathered on the host,
judged in `core.trace`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.endpoint import Endpoint
from dacha.core.named import NamedTuple
from dacha.core.network.confinement import Confinement
from dacha.core.network.uplink import Cut
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.results import (
    IN,
    Carried,
    Certificate,
    ConnectResult,
    Dropped,
    LastRun,
    LoginSeen,
    RouterSeen,
    RouteSeen,
    ThereSeen,
    Unforwarded,
)

if TYPE_CHECKING:
    from dacha.core.apply.waiting import Waiting
    from dacha.core.lab.kinds import Origin, Way

# How a user gets into a guest: an agent that runs commands, a login, a shell on its console, a password for the
# console; UNKNOWN if none of these is known, NOBODY if there is none.
AGENT, LOGIN, SHELL, PASSWORD, UNKNOWN, NOBODY = "agent", "login", "shell", "password", "unknown", "nobody"
# A login that is root's own, that uses doas, or that has neither this nor sudo.
AS_ROOT, BY_DOAS, UNPRIVILEGED = "login as root", "login with doas", "login without sudo"


def kind_of_login(inside: Inside | None) -> str:
    """How an administrator's command is run by a login: with sudo, unless the guest reported something else."""
    raises = inside.raises if inside else ""
    return {"root": AS_ROOT, "doas": BY_DOAS, "none": UNPRIVILEGED}.get(raises, LOGIN)


class LabSeen(NamedTuple):
    """The lab file: its first `error` (what, remedy), what the door still waits for, the guest's address from its next
    start on, if it is another one, and whether the guest gets first-boot data."""

    error: tuple[str, str] | None = None
    not_applied: Waiting | None = None
    moves: str | None = None
    first_boot: bool = True


class RunSeen(NamedTuple):
    """The guest's process and system: `state` as `dacha status` has it, the monitor's `status` if it is paused or
    suspended, and the signs of its boot."""

    state: str = "on"
    status: str = ""
    room: tuple[int, str] | None = None  # free space for its disks at the tightest place: bytes, and the folder
    since_s: float | None = None
    stopped_on_purpose: bool = False
    last: LastRun | None = None  # of a guest that is off
    panic: str | None = None
    nothing: tuple[str, str] | None = None  # what it lacks to start from, and the remedy
    shown: str = ""  # its last console output, without escape sequences
    console_empty: bool = False  # no console output since its start
    more_memory: str = ""  # twice its memory, as a command accepts it
    booted: str | None = None


class Access(NamedTuple):
    """The ways into the guest beside the door: its agent, and its console."""

    agent: bool = False
    agent_runs: bool | None = None  # whether it runs commands; None if that was not tried
    console: str = ""  # a "shell" is open, a user has a "password", "" if unknown


class AdapterSeen(NamedTuple):
    """The guest's adapter and its link on this host."""

    carried: Carried | None = None
    hardware: str = ""  # the adapter's hardware address
    model: str = ""
    frames: int | None = None  # number of frames that the guest has sent since its link was created
    route: RouteSeen | None = None
    shaped: tuple[str, ...] = ()  # traffic control of other programs on its link and the bridge
    pinned: str = ""  # the hardware address that this host was told by hand to use for the guest
    learnt: bool | None = None  # whether this host's kernel has a hardware address for the guest, if it was silent


class AddressSeen(NamedTuple):
    """The guest's address on its network: the `address` in use, as known or planned, and what was seen of it."""

    address: str | None = None
    planned: str = ""  # in the lab file
    prefix: int = 0
    gateway: str = ""  # of its network, as the guest should have it
    handed_out: bool = False
    caretaker: bool | None = None
    seen_address: str | None = None
    seen_age_s: float | None = None
    answered: tuple[str, ...] | None = None  # hardware addresses that answer ARP for it
    answered_ms: float = 0.0


class Tried(NamedTuple):
    """Connections of this host: `direct` to the guest's port, `through` the door, one whose `reply` must leave the
    guest's network; and what QEMU and the kernel show of them."""

    direct: ConnectResult | None = None
    through: ConnectResult | None = None
    reply: ConnectResult | None = None
    returned: bool = False  # whether the port refused at first, and serves now
    arrived: bool | None = None  # in user mode: whether the guest itself has the connection that QEMU accepted
    forward: bool | None = None  # in user mode: whether QEMU has the host port open
    held_by: str | None = None
    elsewhere: tuple[int, ...] = ()  # other usual ports of the service that answer
    sizes: tuple[int, ...] | None = None  # packet sizes whose echo replies arrived


class HostSeen(NamedTuple):
    """This host's rules, settings and addresses."""

    rule: str | None = None  # the door's: "there", "missing", or another target
    rules_changed: bool = False
    confinement: Confinement | None = None
    forwarding: bool | None = None
    unforwarded: Unforwarded | None = None
    dropped: Dropped | None = None  # what drops a client's connection
    dropped_here: Dropped | None = None  # what drops this host's own connection to the guest
    untracked: tuple[str, str] | None = None  # what exempts it from connection tracking, and the command that shows it
    taken: tuple[str, str] | None = None  # what redirects it first, and the command that shows that
    led: tuple[str, int] | None = None  # where the kernel forwarded our own connection
    on_loopback: bool = False  # whether the door listens on this host's loopback only
    lan_address: str | None = None
    told_address: str | None = None  # this host's LAN address, as last printed
    cut: Cut | None = None  # what disconnects this host from the LAN
    arp_tables: tuple[str, ...] = ()  # other programs' tables of the family arp


class SourcesSeen(NamedTuple):
    """A limited door: its `allowed` networks, the client that was asked about, and whether the door admits it."""

    allowed: tuple[str, ...] = ()
    asker: str | None = None
    admitted: bool | None = None


class NamesSeen(NamedTuple):
    """The guest's `name` in the lab's domain, the server queried ("" for none), and its answer."""

    name: str = ""
    server: str = ""
    answer: tuple[str, ...] | None = None


class Gathered(NamedTuple):
    """How the questions went: their duration, and what could not be asked."""

    took_s: float = 0.0
    untold: str = ""  # why some evidence could not be gathered
    unanswered: tuple[tuple[str, str], ...] = ()  # hops whose question failed, and why
    interrupted: bool = False  # by the user, with Ctrl-C
    mute: str = ""  # why the guest itself could not be queried, if that would have shown more


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
    now: float = 0.0
    lab: LabSeen = LabSeen()
    run: RunSeen = RunSeen()
    access: Access = Access()
    link: AdapterSeen = AdapterSeen()
    net: AddressSeen = AddressSeen()
    tried: Tried = Tried()
    key: bool | None = None  # whether the presented SSH host key is the trusted one
    login: LoginSeen | None = None
    certificate: Certificate | None = None
    inside: Inside | None = None
    host: HostSeen = HostSeen()
    sources: SourcesSeen = SourcesSeen()
    router: RouterSeen | None = None
    there: ThereSeen | None = None
    names: NamesSeen = NamesSeen()
    gathered: Gathered = Gathered()

    @property
    def by(self) -> str:
        """How a user gets into the guest to fix something there (`advice`)."""
        agent, runs = self.access.agent, self.access.agent_runs
        if runs or (agent and runs is None):
            return AGENT
        told_by_login = self.inside is not None and runs is False
        if told_by_login or (self.login is not None and self.login.result == IN and self.service == "ssh"):
            return kind_of_login(self.inside)
        return self.access.console or UNKNOWN
