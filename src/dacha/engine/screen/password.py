"""The password of a guest's display that is stored, so that it is the same after the guest's next start."""

from __future__ import annotations

from dacha.engine.home import Home
from dacha.host.files import replace_file
from dacha.hypervisor.live import screen
from dacha.hypervisor.monitor.qmp import Qmp


def stored(home: Home, name: str) -> str | None:
    """The stored password of a guest's display; None if none is stored."""
    try:
        return home.screen_password(name).read_text().rstrip("\n") or None
    except FileNotFoundError:
        return None


def store(home: Home, name: str, password: str) -> None:
    """Store it for this user alone."""
    replace_file(home.screen_password(name), f"{password}\n", mode=0o600)


def forget(home: Home, name: str) -> bool:
    """Delete the stored password; False if none was stored. The display keeps it until the guest stops."""
    found = stored(home, name) is not None
    home.screen_password(name).unlink(missing_ok=True)
    return found


def set_stored(home: Home, name: str, qmp: Qmp) -> None:
    """Set the stored password, if there is one, in a running guest."""
    if password := stored(home, name):
        screen.set_password(qmp, password)
