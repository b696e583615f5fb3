"""Access to a guest without a door: SSH through another guest of its network."""

from __future__ import annotations

import shlex
import time
from collections.abc import Callable, Sequence

from dacha.core.apply.observed import BOOTING_S, ON
from dacha.core.errors import AnswerNo, DachaError, UsageError
from dacha.core.lab.model import Guest
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import endpoint
from dacha.core.plan.plan import Plan
from dacha.engine.guest.observe import observe_guest
from dacha.engine.inside.identities import identities
from dacha.engine.inside.ssh import GREETING_S, refuse_unless_on, ssh_command, trust_options
from dacha.engine.lab.named import guest_named
from dacha.engine.network.live import live_plan
from dacha.engine.workspace import Workspace
from dacha.host.bounded import run_bounded

SSH_PORT = 22


# How long one check of the guest's SSH server may take, and the interval between two (seconds).
ASKED_S, AGAIN_S = 60.0, 1.0


class Through(NamedTuple):
    """The way through another guest: its name, OpenSSH's argument list, and the command that checks whether the
    target's SSH server responds."""

    between: str
    argv: list[str]
    asks: list[str]


class Between(NamedTuple):
    """A guest in between: its name, and the target's address on their common network."""

    guest: str
    address: str


def has_ssh_door(guest: Guest) -> bool:
    """True if a door of the guest leads to its SSH server."""
    return any(d.service == "ssh" for d in guest.doors)


def candidates(ws: Workspace, plan: Plan, guest: Guest) -> list[Between]:
    """Guests with an SSH door that share a kernel network with the target, in the order of the lab file. On a user-mode
    network, each guest has a segment of its own."""
    there = {a.network: a.address for a in plan.adapters_of(guest.name) if a.address}
    found = []
    for other in ws.lab.guests.values():
        if other.name == guest.name or not has_ssh_door(other):
            continue
        for adapter in plan.adapters_of(other.name):
            if adapter.network in there and ws.lab.networks[adapter.network].by_kernel:
                found.append(Between(other.name, str(there[adapter.network])))
                break
    return found


def through_command(
    ws: Workspace, name: str, command: Sequence[str], *, by: str | None, user: str | None, terminal: bool
) -> Through:
    """The way by two logins, each to a guest whose key is known; the guest in between cannot read the session. `by`
    names that guest. Raises UsageError or AnswerNo if there is none."""
    guest = guest_named(ws, name)
    account = user or (guest.login.user if guest.login else None)
    if account is None:
        raise UsageError(f"{name} has no login user", remedy=f"dacha connect {name} --user NAME")
    refuse_unless_on(ws, name)
    chosen = candidates(ws, live_plan(ws), guest)
    if by is not None:
        guest_named(ws, by)
        chosen = [c for c in chosen if c.guest == by]
        if not chosen:
            why = "it needs an ssh door, and a kernel or bridge network on which both addresses are known"
            raise UsageError(f"{by} does not lead to {name}", why=why)
    chosen = [c for c in chosen if observe_guest(ws.home, c.guest, forwards=False).state == ON]
    why = "no guest that is on and has an ssh door shares a network with it"
    for between in chosen:
        try:
            first = ssh_command(ws, between.guest, (), user=None, terminal=False)
        except DachaError as e:
            why = f"{between.guest}: {e.what}"
            continue
        to = str(endpoint(between.address, _port(guest)))
        # ssh substitutes percent signs in this option: they are doubled.
        proxy = shlex.join([*first[:-1], "-W", to, first[-1]]).replace("%", "%%")
        asks = [*first[:-1], "-o", "BatchMode=yes", "-W", to, first[-1]]
        argv = [first[0], "-p", str(_port(guest)), "-l", account, "-o", f"ConnectTimeout={GREETING_S}"]
        argv += ["-o", f"ProxyCommand={proxy}", *trust_options(ws, guest), *identities(ws, guest, former=True)]
        argv += ["-t"] if terminal else []
        return Through(between.guest, [*argv, between.address, *(["--", *command] if command else [])], asks)
    raise AnswerNo(f"no other guest leads to {name}", why=why, remedy=f"dacha door add {name} ssh --from host")


def wait_to_boot(ws: Workspace, name: str, way: Through, tick: Callable[[], None]) -> None:
    """Wait while a guest boots until its SSH server responds on that way; `tick` is called before each check. After the
    usual boot time, the client reports the problem."""
    since = observe_guest(ws.home, name, forwards=False).since
    while since and time.time() - since < BOOTING_S:
        tick()
        if run_bounded(way.asks, ASKED_S, most=4).text.startswith("SSH-"):
            return
        refuse_unless_on(ws, name)
        time.sleep(AGAIN_S)


def _port(guest: Guest) -> int:
    return next((d.to.first for d in guest.doors if d.service == "ssh"), SSH_PORT)
