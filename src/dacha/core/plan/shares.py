"""Folders that must not be shared with a guest, because they expose this host."""

from __future__ import annotations

from collections.abc import Iterable

# Folders that control this host: neither they nor their parents are shared.
_RULING = ("/etc", "/proc", "/sys", "/dev", "/run", "/boot")
# Folders that contain much more than a lab's data: not shared as a whole.
_WHOLE = ("/home", "/usr", "/var", "/opt", "/srv", "/mnt", "/media", "/tmp", "/lib", "/bin", "/sbin")


def why_dangerous(folder: str, homes: Iterable[str], own: Iterable[str]) -> str:
    """Why sharing a folder (its real path) exposes this host; "" if it does not. `homes` are home folders, `own` those
    of Dacha."""
    if any(within(x, folder) and x != folder for x in _RULING):
        return "it is the root file system of this host"
    for ruling in _RULING:
        if within(folder, ruling):
            return (
                f"it is in {ruling}, which controls this host"
                if folder != ruling
                else f"it contains {ruling}, which controls this host"
            )
    for kept in own:
        if within(folder, kept) or within(kept, folder):
            return f"it contains the guests' disks and keys ({kept})"
    if folder in _WHOLE:
        return f"it is the whole of {folder}"
    for home in homes:
        if home not in ("/", "/nonexistent") and within(home, folder):
            return f"it is a home folder ({home}), which contains private keys"
    return ""


def within(path: str, folder: str) -> bool:
    """True if a path is the folder, or inside it."""
    return path == folder or path.startswith(folder.rstrip("/") + "/")
