"""Try a password for a remote desktop: at the server if that checks it first, else by the guest's own agent."""

from __future__ import annotations

from dacha.core.errors import PeerError
from dacha.core.lab.model import Guest
from dacha.core.trace.password import IN, REFUSED, UNASKED
from dacha.core.trace.seen.results import NO_ANSWER, LoginSeen
from dacha.engine.workspace import Workspace
from dacha.host.probe.password import check_password
from dacha.hypervisor.monitor import agent

# The helper that login modules use to check a password: it reads it from standard input, and exits with 0 if it is
# correct (Linux-PAM, unix_chkpwd(8)). Run in a shell, as its path differs; an unknown user has another exit code.
CHECK = 'PATH=$PATH:/usr/sbin:/sbin; command -v unix_chkpwd >/dev/null || exit 99; exec unix_chkpwd "$0" nullok'
_NO_PROGRAM = 99


def try_password(
    ws: Workspace, guest: Guest, place: tuple[str, int], user: str, password: str, limit_s: float
) -> LoginSeen:
    """Whether a user's password is accepted. It is in no argument list and no log; a wrong one counts as one
    attempt."""
    try:
        checked = check_password(*place, user, password, limit_s)
    except (OSError, PeerError) as e:
        return LoginSeen(user, (), NO_ANSWER, "", str(e))
    if checked.asked:
        cause = f"{checked.error:x}" if checked.error else ""
        return LoginSeen(user, (), IN if checked.accepted else REFUSED, cause)
    later = "its server accepts a password only on its own login screen"
    if guest.system == "windows":
        return LoginSeen(user, (), UNASKED, "", later)
    argv = ("/bin/sh", "-c", CHECK, user)
    ran = agent.run_program(ws.home.run(guest.name), argv, limit_s, given=password.encode() + b"\0")
    if ran is None or ran.code in (None, _NO_PROGRAM):
        return LoginSeen(user, (), UNASKED, "", f"{later}, and it has no guest agent that could check it")
    return LoginSeen(user, (), IN if ran.code == 0 else REFUSED, "", ", as its agent reports" if ran.code == 0 else "")
