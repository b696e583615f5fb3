"""Which folders are not to be shared with a guest, as they would give this host away."""

from __future__ import annotations

from collections.abc import Iterable

# What rules this host: nothing in them is shared, nor what they are in.
_RULING = ("/etc", "/proc", "/sys", "/dev", "/run", "/boot")
# What is much more than a lab's: not as a whole.
_WHOLE = ("/home", "/usr", "/var", "/opt", "/srv", "/mnt", "/media", "/tmp", "/lib", "/bin", "/sbin")


def why_dangerous(folder: str, homes: Iterable[str], own: Iterable[str]) -> str:
    """Why a folder (its real path) gives this host away; "" where it does not. `homes` are people's home folders, `own`
    those in which Dacha keeps what is its own."""
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
    """True when a path is the folder, or in it."""
    return path == folder or path.startswith(folder.rstrip("/") + "/")
