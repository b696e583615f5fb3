"""The changes of guests: their disks, keys, doors and media, their starts and stops."""

from __future__ import annotations

from dacha.core.apply.change import END, FILE, GUESTS, HOST, NEXT_START, change
from dacha.core.findings import Path
from dacha.core.lab.model import Disk
from dacha.core.named import NamedTuple
from dacha.core.people.keys_inside import KeyChange, named
from dacha.core.plan.doors import Forward
from dacha.core.units import exact_size


@change("write-down", FILE)
class WriteDown(NamedTuple):
    """Write a value that the plan chose into the lab file, so that it stays."""

    path: Path
    text: str

    @property
    def guest(self) -> str | None:
        return str(self.path[1]) if self.path[0] == "guest" else None

    def __str__(self) -> str:
        return self.done()

    def done(self) -> str:
        owner = " ".join(str(p) for p in self.path[:-1] if not isinstance(p, int))
        return f"{owner}: {self.path[-1]} = {self.text}"


@change("make-host-key", GUESTS)
class MakeHostKey(NamedTuple):
    """Make the guest's own SSH host key, so that the first contact is already trusted."""

    guest: str

    def __str__(self) -> str:
        return "create its SSH host key"

    def done(self) -> str:
        return "created host key"


@change("make-disk", GUESTS)
class MakeDisk(NamedTuple):
    """Make one disk: empty, an overlay on an image, or a copy of it."""

    guest: str
    disk: Disk

    def __str__(self) -> str:
        d = self.disk
        size = exact_size(d.size) if d.size else "size of its image"
        image = f"{', a copy of' if d.copy else ' on'} {d.base}" if d.base else ""
        place = f", in storage {d.storage}" if d.storage else ""
        return f"create disk {d.name}, {size}{image}{', full' if d.full else ''}{place}"

    def done(self) -> str:
        return f"created disk {self.disk.name}" + (f" of {exact_size(self.disk.size)}" if self.disk.size else "")


@change("grow-disk", GUESTS)
class GrowDisk(NamedTuple):
    """Make a disk larger. What is on it stays; the guest sees the new room at once."""

    guest: str
    disk: str
    size: int

    def __str__(self) -> str:
        return f"grow disk {self.disk} to {exact_size(self.size)}"

    def done(self) -> str:
        return f"grew disk {self.disk} to {exact_size(self.size)}"


@change("attach-disk", GUESTS)
class AttachDisk(NamedTuple):
    """Put a disk into a running guest."""

    guest: str
    disk: str
    bus: str

    def __str__(self) -> str:
        return f"attach disk {self.disk} ({self.bus})"

    def done(self) -> str:
        return f"attached disk {self.disk} ({self.bus})"


@change("detach-disk", GUESTS)
class DetachDisk(NamedTuple):
    """Take a disk out of a running guest. What is on it stays."""

    guest: str
    disk: str

    def __str__(self) -> str:
        return f"detach disk {self.disk} (its contents are kept)"

    def done(self) -> str:
        return f"detached disk {self.disk} (its contents are kept)"


@change("delete-disk", GUESTS)
class DeleteDisk(NamedTuple):
    """Delete a disk of a guest that has left the lab, because it was asked for by name: its contents are lost."""

    guest: str
    disk: str
    size: int

    def __str__(self) -> str:
        return f"delete disk {self.disk} ({exact_size(self.size)}): its contents are lost"

    def done(self) -> str:
        return f"deleted disk {self.disk} ({exact_size(self.size)})"


@change("move-screen", GUESTS)
class MoveScreen(NamedTuple):
    """Let a running guest's display listen at another place, or (`port` None) at none but its socket."""

    guest: str
    origin: str | None
    port: int | None

    def __str__(self) -> str:
        return f"let its display listen for {self.origin} on port {self.port}" if self.port else "close its display"

    def done(self) -> str:
        return f"its display listens for {self.origin} on port {self.port}" if self.port else "closed its display"


@change("write-seed", GUESTS)
class WriteSeed(NamedTuple):
    """Write the first-boot data."""

    guest: str
    digest: str

    def __str__(self) -> str:
        return "create its first-boot data"

    def done(self) -> str:
        return "created first-boot data"


@change("change-keys", GUESTS)
class ChangeKeys(NamedTuple):
    """Put keys into a running guest's accounts, and take those out that the lab no longer lets in. `told` is what else
    was found or done there, in words."""

    guest: str
    changes: tuple[KeyChange, ...]
    told: tuple[str, ...] = ()

    def __str__(self) -> str:
        return "keys: " + self._said("lock the account {0}", "create the account {0}")

    def done(self) -> str:
        return "; ".join(("keys: " + self._said("locked the account {0}", "created the account {0}"), *self.told))

    def _said(self, shut: str, made: str) -> str:
        said = []
        for c in self.changes:
            come, go = (", ".join(map(named, keys)) for keys in (c.put, c.take))
            said += [f"{come} in as {c.account}"] if come else []
            said += [f"{go} out of {c.account}"] if go else []
            said += [shut.format(c.account)] if c.shut else []
            said += [made.format(c.account)] if c.own and not (come or go or c.shut) else []
        return "; ".join(said)


@change("reattach-tap", HOST)
class ReattachTap(NamedTuple):
    """Give a running guest's adapter the link again that was removed under it."""

    guest: str
    adapter: int
    link: str

    def __str__(self) -> str:
        return f"attach adapter {self.adapter} again: the link under it was removed"

    def done(self) -> str:
        return f"attached adapter {self.adapter} again: the link under it was removed"


@change("start-guest", GUESTS)
class StartGuest(NamedTuple):
    """Start a guest."""

    guest: str

    def __str__(self) -> str:
        return "start"

    def done(self) -> str:
        return "started"


@change("stop-guest", GUESTS)
class StopGuest(NamedTuple):
    """Stop a guest that the lab no longer has. Its disks stay."""

    guest: str

    def __str__(self) -> str:
        return "stop: it is no longer in the lab file (its disks are kept)"

    def done(self) -> str:
        return "stopped: it is no longer in the lab file; its disks are kept"


@change("open-forward", GUESTS)
class OpenForward(NamedTuple):
    """Let a running guest's own process listen at a door."""

    guest: str
    door: str
    forward: Forward

    def __str__(self) -> str:
        return f"open door {self.door}: {self.forward}"

    def done(self) -> str:
        return f"opened: {self.forward}"


@change("close-forward", GUESTS)
class CloseForward(NamedTuple):
    """Let it listen there no more."""

    guest: str
    forward: Forward

    def __str__(self) -> str:
        return f"close {self.forward}"

    def done(self) -> str:
        return f"closed {self.forward}"


@change("change-medium", GUESTS)
class ChangeMedium(NamedTuple):
    """Put a medium into a running guest's drive, or take out what is in it (`path` None)."""

    guest: str
    drive: int
    path: str | None

    def __str__(self) -> str:
        return f"insert {self.path.rpartition('/')[2]}" if self.path else f"eject the medium in drive {self.drive}"

    def done(self) -> str:
        return f"inserted {self.path.rpartition('/')[2]}" if self.path else f"ejected the medium in drive {self.drive}"


@change("change-machine", END, NEXT_START)
class ChangeMachine(NamedTuple):
    """Something about a running guest that only its next start can change: `what` in words, and the `part` of it, a key
    of `Machine`, or "link" for an adapter whose link was removed, "gate" for the process that checks its connections.
    """

    guest: str
    what: str
    part: str

    def __str__(self) -> str:
        return self.what

    def done(self) -> str:
        return self.what
