"""The SSH client's command with all options."""

from __future__ import annotations

from collections.abc import Sequence

from dacha.core.apply.faults import held
from dacha.core.apply.observed import HUNG, OFF, PAUSED, SAVED
from dacha.core.errors import AnswerNo, HostError, UsageError
from dacha.core.lab.model import Guest
from dacha.core.lab.names import host_name
from dacha.core.plan.doors import ANYWHERE, LOOPBACK
from dacha.engine.disks.room import room
from dacha.engine.guest.first_boot import trusted_key
from dacha.engine.guest.observe import observe_guest
from dacha.engine.inside.identities import identities, literal
from dacha.engine.lab.named import guest_named
from dacha.engine.network.live import live_plan
from dacha.engine.workspace import Workspace
from dacha.host.facts import program

# How long the guest's SSH server may take for its first answer: a slow guest needs minutes.
GREETING_S = 180


def refuse_unless_on(ws: Workspace, name: str) -> None:
    """Raise AnswerNo for a guest that cannot answer: a client would wait in silence."""
    seen = observe_guest(ws.home, name, forwards=False)
    if seen.state in (OFF, SAVED):
        saved = ", with its memory saved to disk" if seen.state == SAVED else ""
        raise AnswerNo(f"{name} is off{saved}", remedy=f"dacha start {name}")
    if seen.fault:
        still = held(name, seen.fault, room(ws.home, name))
        raise AnswerNo(f"{name} is suspended: {still.what}", why=still.why, remedy=still.remedy)
    if seen.state == PAUSED:
        raise AnswerNo(f"{name} is paused, so it does not respond", remedy=f"dacha resume {name}")
    if seen.state == HUNG:
        raise AnswerNo(
            f"{name} does not respond: QEMU hangs, or its process is stopped", remedy=f"dacha restart {name} --force"
        )


def ssh_command(ws: Workspace, name: str, command: Sequence[str], *, user: str | None, terminal: bool) -> list[str]:
    """OpenSSH's argument list for a guest's ssh door, program first. Raises UsageError if the guest has no ssh door or
    no login user, AnswerNo if it is not on, HostError if ssh is not installed."""
    guest = guest_named(ws, name)
    door = next((d for d in guest.doors if d.service == "ssh"), None)
    if door is None:
        raise UsageError(
            f"{name} has no ssh door",
            where=ws.path.name,
            remedy=f"dacha door add {name} ssh --from host, then dacha apply",
        )
    if user is None and guest.login is None:
        raise UsageError(
            f"{name} has no login user",
            where=ws.path.name,
            remedy=f"specify a user: dacha connect {name} --user NAME",
        )
    refuse_unless_on(ws, name)
    ssh = program("ssh")
    if ssh is None:
        raise HostError("ssh is not installed", remedy="on Debian: apt install openssh-client")
    planned = live_plan(ws).doors[name, door.name]
    place = planned.enter_at(LOOPBACK)
    if place is None:
        if planned.adapter and planned.adapter.address is None and planned.means == "own":
            raise AnswerNo(
                f"the address of {name} is not known: DHCP assigns it on {planned.adapter.network}, and no traffic "
                "of it was seen yet",
                remedy="wait until it has booted; its console shows its address: dacha console " + name,
            )
        raise AnswerNo(f"door {name} {door.name} is not reachable from this host", remedy="dacha check says why")
    argv = [ssh, "-p", str(place[1]), "-l", user or (guest.login.user if guest.login else "")]
    argv += ["-o", f"ConnectTimeout={GREETING_S}", *trust_options(ws, guest), *identities(ws, guest, former=True)]
    if terminal:
        argv.append("-t")
    argv.append(str(place[0] if place[0] != ANYWHERE else LOOPBACK))
    return [*argv, *(["--", *command] if command else [])]


def trust_options(ws: Workspace, guest: Guest) -> list[str]:
    """Trust only the lab's own known hosts: a guest with another key is refused, and there are no prompts."""
    accepted = ws.home.read(guest.name).accepted_key is not None
    if not accepted and (not guest.first_boot or not trusted_key(ws.home, guest.name)):
        return []
    options = {
        "UserKnownHostsFile": literal(str(ws.home.known_hosts)),
        "GlobalKnownHostsFile": "/dev/null",
        "StrictHostKeyChecking": "yes",
        "HostKeyAlias": host_name(ws.lab.name, guest.name),
        "CheckHostIP": "no",
        "UpdateHostKeys": "no",
        "HostKeyAlgorithms": "ssh-ed25519",
    }
    argv = []
    for key, value in options.items():
        argv += ["-o", f"{key}={_quoted(value)}"]
    return argv


def _quoted(value: str) -> str:
    """A value that ssh would split at spaces, as one argument (ssh_config(5): in double quotes)."""
    if not any(c in value for c in " \t\"'\\"):
        return value
    escaped = value.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'
