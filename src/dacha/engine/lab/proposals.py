"""Default values for a new guest. Each is written into the file, so that it is visible."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from dacha.core.lab.table.profile import PLAIN, Profile
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace
from dacha.host import folders


def written_path(ws: Workspace, path: str) -> str:
    """A path from the command line in the lab file's form: relative to the file if it is below it."""
    full = folders.expand(path)
    if not full.exists():
        return path  # a short name, or a mistake that check reports
    full = full.absolute()
    try:
        return str(full.relative_to(ws.path.parent))
    except ValueError:
        return str(full)


def written_file(ws: Workspace, path: str) -> str:
    """A file or folder from the command line in the lab file's form: a relative path starts at the working directory,
    unless it exists only beside the lab file. "~" stays as it is."""
    full = Path(path).absolute()
    if path.startswith("~") or (not full.exists() and (ws.path.parent / path).exists()):
        return path
    return str(full.relative_to(ws.path.parent)) if full.is_relative_to(ws.path.parent) else str(full)


def written_key(ws: Workspace, key: str) -> str:
    """A public key from the command line in the lab file's form: the key itself, or its file."""
    return key if " " in key.strip() else written_file(ws, key)


def medium_facts(ws: Workspace, name: str) -> dict[str, Any]:
    from dacha.engine.media.media_store import Store

    kept = Store(ws.lab).find(name)
    return kept.facts if kept else {}


def firmware_for(ws: Workspace, medium: str, usual: str) -> str:
    """The firmware that a medium supports: the system's usual one if possible, else the other."""
    facts = medium_facts(ws, medium)
    other = "uefi" if usual == "bios" else "bios"
    return other if facts.get(other) and not facts.get(usual) else usual


def tidy_size(size: str) -> str:
    """A size in the lab file's form: "2GiB" becomes "2 GiB"; invalid ones are left for the file's reader."""
    from dacha.core import units

    try:
        return units.exact_size(units.size(size))
    except ValueError:
        return size


def family_of(image: str | None) -> str | None:
    """The system family in an image's file name; it is written into the file, so that a wrong one is visible."""
    name = Path(image or "").name.lower()
    return next((s for s in profiles() if s not in ("linux", "other", "bsd") and name.startswith(s)), None)


def usual(system: str | None) -> Profile:
    """The profile of a system; the default one without a system."""
    return profiles().get(system or "linux", PLAIN)


def disk_size_for(ws: Workspace, image: str, least: int) -> str | None:
    """The usual disk size `least` (bytes), unless the image is larger or does not exist."""
    from dacha.core.errors import HostError
    from dacha.core.units import show_size
    from dacha.engine.media.media import base_image

    try:
        return show_size(least) if base_image(ws, image).size <= least else None
    except HostError:
        return None  # check reports the error


def login_for(ws: Workspace, asked: str | None, named: Sequence[str]) -> dict[str, Any] | None:
    """The login: as specified, else this user with the key that OpenSSH would use first."""
    keys = [written_key(ws, key) for key in named]
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
    """The default login user: this user, unless that is root."""
    import getpass

    from dacha.core.lab import fields

    try:
        user = fields.user(getpass.getuser())
    except (ValueError, OSError, KeyError):
        return "ops"
    return "ops" if user == "root" else user
