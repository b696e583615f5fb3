"""A guest's remote desktop, with a client on this host."""

from __future__ import annotations

from dacha.core.errors import AnswerNo, HostError, UsageError
from dacha.core.lab.client import Client
from dacha.core.plan.doors import LOOPBACK
from dacha.engine.inside.ssh import refuse_unless_on
from dacha.engine.lab.named import guest_named
from dacha.engine.network.live import live_plan
from dacha.engine.workspace import Workspace
from dacha.host.facts import program

# Programs of one client with the same arguments, the newest first.
CLIENTS = ("xfreerdp3", "wlfreerdp", "xfreerdp")


def desktop_command(ws: Workspace, name: str, *, user: str | None) -> list[str]:
    """The client's argument list for a guest's rdp door, program first; it asks for the password itself. Raises
    UsageError if the guest has no such door, AnswerNo if it is not on, HostError without a client."""
    guest = guest_named(ws, name)
    door = next((d for d in guest.doors if d.service == "rdp"), None)
    if door is None:
        raise UsageError(
            f"{name} has no rdp door", where=ws.path.name,
            remedy=f"dacha door add {name} rdp --from host, then dacha apply",
        )  # fmt: skip
    refuse_unless_on(ws, name)
    place = live_plan(ws).doors[name, door.name].enter_at(LOOPBACK)
    if place is None:
        raise AnswerNo(f"door {name} {door.name} is not reachable from this host", remedy="dacha check says why")
    found = next((path for client in CLIENTS if (path := program(client))), None)
    if found is None:
        raise HostError(
            "no remote desktop client is installed",
            remedy=f"on Debian: apt install freerdp2-x11; for another client: dacha handout {name} --from host "
            "creates the file that it opens",
        )
    account = user or (guest.login.user if guest.login else None)
    # The certificate is self-signed: the client remembers it from the first connection.
    argv = [found, f"/v:{place[0]}:{place[1]}", "/cert:tofu", "+clipboard", *_shown(door.client)]
    return [*argv, *([f"/u:{account}"] if account else [])]


def _shown(client: Client) -> list[str]:
    """The client's arguments for how the desktop is shown and heard."""
    argv = [f"/d:{client.domain}"] if client.domain else []
    if client.sound != "client":
        argv.append("/audio-mode:{}".format({"guest": 1, "off": 2}[client.sound]))
    if client.all_screens:
        return [*argv, "/multimon"]
    if client.size is None:
        return [*argv, "/f"]
    return [*argv, "/dynamic-resolution", "/size:{}x{}".format(*client.size)]
