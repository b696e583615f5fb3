"""Sensible values for a new guest, where its maker said none. Each is written into the file, so that it is seen."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from dacha.core.lab.profile import PLAIN, Profile
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace
from dacha.host import folders


def written_path(ws: Workspace, path: str) -> str:
    """A path given on the command line as the lab file should have it: relative to the file where it lies below it."""
    full = folders.expand(path)
    if not full.exists():
        return path  # a short name, or a mistake that check points at
    full = full.absolute()
    try:
        return str(full.relative_to(ws.path.parent))
    except ValueError:
        return str(full)


def medium_facts(ws: Workspace, name: str) -> dict[str, Any]:
    from dacha.engine.disks.media_store import Store

    kept = Store(ws.lab).find(name)
    return kept.facts if kept else {}


def firmware_for(ws: Workspace, medium: str, usual: str) -> str:
    """The firmware that a medium starts by: the system's usual one where it does, else the other where it does."""
    facts = medium_facts(ws, medium)
    other = "uefi" if usual == "bios" else "bios"
    return other if facts.get(other) and not facts.get(usual) else usual


def tidy_size(size: str) -> str:
    """A size as the lab file should have it: "2GiB" becomes "2 GiB"; what is no size is left for the file's reader."""
    from dacha.core import units

    try:
        return units.exact_size(units.size(size))
    except ValueError:
        return size


def family_of(image: str | None) -> str | None:
    """The system family that an image's file name begins with; the file says it, so that a wrong one is seen."""
    name = Path(image or "").name.lower()
    return next((s for s in profiles() if s not in ("linux", "other", "bsd") and name.startswith(s)), None)


def usual(system: str | None) -> Profile:
    """The profile of a system; the plain one when nobody named any."""
    return profiles().get(system or "linux", PLAIN)


def disk_size_for(ws: Workspace, image: str, least: int) -> str | None:
    """The usual disk size `least` (bytes), unless the image is larger or not there to be asked."""
    from dacha.core.errors import HostError
    from dacha.core.units import show_size
    from dacha.engine.disks.media import base_image

    try:
        return show_size(least) if base_image(ws, image).size <= least else None
    except HostError:
        return None  # check says what is wrong with it


def login_for(asked: str | None, named: list[str]) -> dict[str, Any] | None:
    """Who may log in: as asked, else this person with the key that OpenSSH would use first."""
    keys = list(named)
    if not keys:
        keys = [
            k
            for k in ("~/.ssh/id_ed25519.pub", "~/.ssh/id_ecdsa.pub", "~/.ssh/id_rsa.pub")
            if folders.expand(k).is_file()
        ][:1]
    if not asked and not keys:
        return None
    return {"user": asked or usual_user(), "keys": keys}


def usual_user() -> str:
    """Who logs in where nobody was named: this person, unless that is root."""
    import getpass

    from dacha.core.lab import fields

    try:
        user = fields.user(getpass.getuser())
    except (ValueError, OSError, KeyError):
        return "ops"
    return "ops" if user == "root" else user
