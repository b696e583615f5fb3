"""Changes of guests: disks, keys, doors, media, start and stop."""

from __future__ import annotations

from dacha.core.apply.changes.change import END, FILE, GUESTS, HOST, NEXT_START, change
from dacha.core.findings import Path
from dacha.core.lab.model import Disk
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import Forward
from dacha.core.units import exact_size, show_size


@change("write-down", FILE)
class WriteDown(NamedTuple):
    """Write a value that the plan chose into the lab file, so that it does not change later."""

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
    """Create the guest's SSH host key, so that clients can trust it before the first connection."""

    guest: str

    def __str__(self) -> str:
        return "create its SSH host key"

    def done(self) -> str:
        return f"created {self.made}"

    @property
    def made(self) -> str:
        return "host key"


@change("make-disk", GUESTS)
class MakeDisk(NamedTuple):
    """Create a disk: empty, an overlay on an image, or a copy of an image."""

    guest: str
    disk: Disk

    def __str__(self) -> str:
        d = self.disk
        size = exact_size(d.size) if d.size else "size of its image"
        image = f"{', a copy of' if d.copy else ' on'} {d.base}" if d.base else ""
        place = f", in storage {d.storage}" if d.storage else ""
        how = f"{', full' if d.full else ''}{', encrypted' if d.passphrase else ''}"
        return f"create disk {d.name}, {size}{image}{how}{place}"

    def done(self) -> str:
        return f"created {self.made}"

    @property
    def made(self) -> str:
        return f"disk {self.disk.name}" + (f" of {exact_size(self.disk.size)}" if self.disk.size else "")


@change("grow-disk", GUESTS)
class GrowDisk(NamedTuple):
    """Grow a disk. Its contents are kept; the guest sees the new size at once."""

    guest: str
    disk: str
    size: int

    def __str__(self) -> str:
        return f"grow disk {self.disk} to {exact_size(self.size)}"

    def done(self) -> str:
        return f"grew disk {self.disk} to {exact_size(self.size)}"


@change("move-disk", GUESTS)
class MoveDisk(NamedTuple):
    """Move a disk to a storage (None: the state folder), while its guest runs or not; `size` is what it takes
    (bytes)."""

    guest: str
    disk: str
    storage: str | None
    size: int

    def __str__(self) -> str:
        return f"move disk {self.disk} ({show_size(self.size)}) to {self._to}"

    def done(self) -> str:
        return f"moved disk {self.disk} ({show_size(self.size)}) to {self._to}"

    @property
    def _to(self) -> str:
        return f"storage {self.storage}" if self.storage else "the state folder"


@change("attach-disk", GUESTS)
class AttachDisk(NamedTuple):
    """Attach a disk to a running guest."""

    guest: str
    disk: str
    bus: str

    def __str__(self) -> str:
        return f"attach disk {self.disk} ({self.bus})"

    def done(self) -> str:
        return f"attached disk {self.disk} ({self.bus})"


@change("detach-disk", GUESTS)
class DetachDisk(NamedTuple):
    """Detach a disk from a running guest. Its contents are kept."""

    guest: str
    disk: str

    def __str__(self) -> str:
        return f"detach disk {self.disk} (its contents are kept)"

    def done(self) -> str:
        return f"detached disk {self.disk} (its contents are kept)"


@change("delete-disk", GUESTS)
class DeleteDisk(NamedTuple):
    """Delete a disk of a guest that was removed from the lab file, as the user requested: its contents are lost."""

    guest: str
    disk: str
    size: int

    def __str__(self) -> str:
        return f"delete disk {self.disk} ({exact_size(self.size)}): its contents are lost"

    def done(self) -> str:
        return f"deleted disk {self.disk} ({exact_size(self.size)})"


@change("move-screen", GUESTS)
class MoveScreen(NamedTuple):
    """Change where a running guest's display listens; `port` None leaves only its socket."""

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
        return f"created {self.made}"

    @property
    def made(self) -> str:
        return "first-boot data"


@change("reattach-tap", HOST)
class ReattachTap(NamedTuple):
    """Give a running guest's adapter a new link, after its link was removed."""

    guest: str
    adapter: int
    link: str

    def __str__(self) -> str:
        return f"attach adapter {self.adapter} again: the link under it was removed"

    def done(self) -> str:
        return f"attached adapter {self.adapter} again: the link under it was removed"


@change("start-guest", GUESTS)
class StartGuest(NamedTuple):
    """Start a guest; a `saved` one continues where it was."""

    guest: str
    saved: bool = False

    def __str__(self) -> str:
        return "start from its saved state" if self.saved else "start"

    def done(self) -> str:
        return "continues from its saved state" if self.saved else "started"


@change("stop-guest", GUESTS)
class StopGuest(NamedTuple):
    """Stop a guest that is no longer in the lab file. Its disks are kept."""

    guest: str

    def __str__(self) -> str:
        return "stop: it is no longer in the lab file (its disks are kept)"

    def done(self) -> str:
        return "stopped: it is no longer in the lab file; its disks are kept"


@change("open-forward", GUESTS)
class OpenForward(NamedTuple):
    """Open a host forward in a running guest's QEMU."""

    guest: str
    door: str
    forward: Forward

    def __str__(self) -> str:
        return f"open door {self.door}: {self.forward}"

    def done(self) -> str:
        return f"opened: {self.forward}"


@change("close-forward", GUESTS)
class CloseForward(NamedTuple):
    """Close a host forward."""

    guest: str
    forward: Forward

    def __str__(self) -> str:
        return f"close {self.forward}"

    def done(self) -> str:
        return f"closed {self.forward}"


@change("change-medium", GUESTS)
class ChangeMedium(NamedTuple):
    """Insert a medium into a running guest's drive, or eject it (`path` None)."""

    guest: str
    drive: int
    path: str | None

    def __str__(self) -> str:
        return f"insert {self.path.rpartition('/')[2]}" if self.path else f"eject the medium in drive {self.drive}"

    def done(self) -> str:
        return f"inserted {self.path.rpartition('/')[2]}" if self.path else f"ejected the medium in drive {self.drive}"


@change("change-machine", END, NEXT_START)
class ChangeMachine(NamedTuple):
    """A change of a running guest that takes effect at its next start: `what` in words, and its `part`: a key of
    `Machine`, "link" for an adapter whose link was removed, or "gate" for the process that checks its connections."""

    guest: str
    what: str
    part: str

    def __str__(self) -> str:
        return self.what

    def done(self) -> str:
        return self.what
