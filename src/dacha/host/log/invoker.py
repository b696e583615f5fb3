"""Who runs this process: its user, and the terminal or the systemd unit that it belongs to."""

from __future__ import annotations

import contextlib
import os
import pwd
import re
import sys
from functools import cache
from pathlib import Path

from dacha.core.log.event import Invoker

# A login session that the kernel does not know (audit's AUDIT_UID_UNSET).
_UNSET = 0xFFFFFFFF
_WORDS_MOST = 160


@cache
def invoker() -> Invoker:
    """The origin of what this process does. The user is the one who logged in, if the kernel knows it (loginuid of
    proc(5), or sudo's note): "ops as root"."""
    program, *words = sys.argv or ["dacha"]
    name = "dacha caretaker" if "caretaker" in program else "dacha"
    return Invoker(" ".join([name, *words])[:_WORDS_MOST], _user(), _terminal(), _unit())


def _user() -> str:
    own, login = os.geteuid(), _UNSET
    with contextlib.suppress(OSError, ValueError):
        login = int(Path("/proc/self/loginuid").read_text())
    if login == _UNSET and os.environ.get("SUDO_UID", "").isdigit() and own == 0:
        login = int(os.environ["SUDO_UID"])
    return _name(own) if login in (own, _UNSET) else f"{_name(login)} as {_name(own)}"


def _name(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except (KeyError, OverflowError):
        return f"user {uid}"


def _terminal() -> str:
    for fd in (0, 1, 2):
        with contextlib.suppress(OSError):
            return os.ttyname(fd).removeprefix("/dev/")
    return ""


def _unit() -> str:
    """The unit in whose control group this process is (cgroups(7)); "" outside of one."""
    with contextlib.suppress(OSError):
        found = re.findall(r"([^/\n]+\.service)", Path("/proc/self/cgroup").read_text())
        return found[-1] if found else ""
    return ""
