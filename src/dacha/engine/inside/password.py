"""Set a password in a running guest: by its agent, else by a login through its SSH door."""

from __future__ import annotations

from dacha.core.errors import AnswerNo, DachaError
from dacha.core.harmless import harmless_lines
from dacha.engine.inside.run import by_login
from dacha.engine.workspace import Workspace
from dacha.hypervisor.monitor import agent


def set_now(ws: Workspace, name: str, user: str, hashed: str) -> str | None:
    """Set it in a running guest: by its agent, else by a login. Returns how it was done; None for a guest that is off.
    Raises AnswerNo if neither is possible."""
    if not ws.home.is_running(name):
        return None
    if agent.set_password(ws.home.run(name), user, hashed):
        return "by its guest agent"
    why = _by_login(ws, name, f"{user}:{hashed}\n")
    if why is None:
        return "by a login"
    raise AnswerNo(
        f"the password cannot be set in {name} now, although it is on",
        why=f"neither by its guest agent nor by a login: {why}",
        remedy=f"to set it at the next start: dacha guest first-boot {name} --again, then dacha restart {name}",
    )


def _by_login(ws: Workspace, name: str, line: str) -> str | None:
    """Set it through the guest's SSH door (chpasswd(8)), as an administrator; why not, if that fails."""
    try:
        ran, said = by_login(ws, name, ["sudo -n chpasswd -e && echo set"], line)
    except DachaError as e:
        return e.what
    lines = harmless_lines(said).strip().splitlines() or ["login refused"]
    return None if ran and lines[-1] == "set" else lines[-1]
