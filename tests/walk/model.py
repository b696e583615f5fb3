"""What a lab must have after commands: whose disk is where, who has which host key."""

from __future__ import annotations

import hashlib
from pathlib import Path

from tests.conftest import Lab


class Model:
    """Disks by the mark that is on them, host keys by guest. `doomed` are disks whose deletion was asked for, and that
    the next `apply` deletes."""

    def __init__(self, disks: dict[str, tuple[str, str]], keys: dict[str, str]) -> None:
        self.disks = dict(disks)
        self.keys = dict(keys)
        self.doomed: set[str] = set()

    def copy(self) -> Model:
        made = Model(self.disks, self.keys)
        made.doomed = set(self.doomed)
        return made

    def of(self, guest: str) -> set[str]:
        return {mark for mark, (name, _) in self.disks.items() if name == guest}

    def renamed(self, old: str, new: str) -> None:
        self.disks = {m: (new if g == old else g, d) for m, (g, d) in self.disks.items()}
        if old in self.keys:
            self.keys[new] = self.keys.pop(old)

    def doom(self, guest: str) -> None:
        self.doomed |= self.of(guest)

    def spare(self, guest: str) -> None:
        self.doomed -= self.of(guest)

    def applied(self) -> None:
        for mark in self.doomed:
            guest, _ = self.disks.pop(mark)
            if not self.of(guest):
                # With its last disk all that was kept of a guest goes: another of its name is another machine.
                self.keys.pop(guest, None)
        self.doomed = set()


def homes(lab: Lab) -> list[Path]:
    """The lab's folder, in whichever state folder it is kept by now."""
    found = [p for state in ("state", "state2") for p in sorted((lab.folder / state / "labs").glob("*/guests"))]
    return [p for p in found if not p.parent.is_symlink()]  # one that was moved left a link


def disks_found(lab: Lab) -> dict[str, tuple[str, str]]:
    """Which marked disks there are: mark, guest and disk. A mark that is on two disks is a failure."""
    found: dict[str, tuple[str, str]] = {}
    for guests in homes(lab):
        for path in sorted(guests.glob("*/disk-*.qcow2")):
            data = path.read_bytes() if path.exists() else b""
            at = data.find(b"MARK:")
            if at >= 0:
                mark = data[at : at + 16].decode()
                assert mark not in found, f"{mark} is on two disks: {path} and {found[mark]}"
                found[mark] = (path.parent.name, path.name.removeprefix("disk-").removesuffix(".qcow2"))
    return found


def keys_found(lab: Lab) -> dict[str, str]:
    return {
        path.parent.name: path.read_text().split()[1]
        for guests in homes(lab)
        for path in sorted(guests.glob("*/host_key.pub"))
    }


def tree(top: Path, but: tuple[str, ...] = ()) -> dict[str, str]:
    """Every file below `top` with what is in it, or where it leads."""
    found = {}
    for path in sorted(top.rglob("*")):
        name = str(path.relative_to(top))
        if path.is_symlink():
            found[name] = f"-> {path.readlink()}"
        elif path.is_file() and path.name not in but:
            found[name] = hashlib.sha256(path.read_bytes()).hexdigest()
    return found
