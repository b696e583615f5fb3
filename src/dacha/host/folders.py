"""Where Dacha keeps things: state, run files, cache (XDG Base Directory Specification 0.8).

A dozen lines of our own: the package for this would be imported by every command.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from dacha.core.errors import HostError


def _folder(variable: str, default: str) -> Path:
    value = os.environ.get(variable, "")
    return Path(value) if value.startswith("/") else Path(default).expanduser()


def state() -> Path:
    """Disks, keys, console records: what must survive a reboot. $DACHA_STATE overrides it."""
    if os.environ.get("DACHA_STATE"):
        return Path(os.environ["DACHA_STATE"]).absolute()
    return _folder("XDG_STATE_HOME", "~/.local/state") / "dacha"


def cache() -> Path:
    """What can be made again: the demo's guest."""
    return _folder("XDG_CACHE_HOME", "~/.cache") / "dacha"


def config() -> Path:
    """The user's own lab file, when no other is named or near."""
    return _folder("XDG_CONFIG_HOME", "~/.config") / "dacha"


def run() -> Path:
    """Sockets and process ids: gone with a reboot. $DACHA_RUN overrides it."""
    if os.environ.get("DACHA_RUN"):
        return Path(os.environ["DACHA_RUN"]).absolute()
    if os.environ.get("XDG_RUNTIME_DIR", "").startswith("/"):
        return Path(os.environ["XDG_RUNTIME_DIR"]) / "dacha"
    if os.geteuid() == 0:
        return Path("/run/dacha")
    return Path(f"/tmp/dacha-{os.getuid()}")


def shared() -> Path:
    """What all labs of one host have in common where root makes them: registers and their locks. A lab of an ordinary
    user shares with that user's others only. $DACHA_SHARED overrides it."""
    if os.environ.get("DACHA_SHARED"):
        return make_private(Path(os.environ["DACHA_SHARED"]).absolute())
    return make_private(Path("/var/lib/dacha/host") if os.geteuid() == 0 else state() / "host")


def make_private(folder: Path) -> Path:
    """Make a folder that only this user can enter; refuse one that belongs to somebody else.

    Raises HostError when it cannot be made: the run folder may lie in /tmp, where others can be first.
    """
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        seen = folder.lstat()
    except OSError as e:
        raise HostError(
            f"cannot make the folder {folder}",
            why=e.strerror or str(e),
            remedy="make it writable, or set DACHA_STATE and DACHA_RUN to folders that are",
        ) from e
    if not stat.S_ISDIR(seen.st_mode) or seen.st_uid != os.geteuid():
        raise HostError(
            f"{folder} belongs to somebody else", remedy="set DACHA_STATE and DACHA_RUN to folders of your own"
        )
    return folder
