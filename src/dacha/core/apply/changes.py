"""Changes: small frozen values, each one step from what is to what should be.

`when` says whether the step is taken now ("live") or by the guest's next start ("at next start").
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from dacha.core.findings import Path
from dacha.core.lab.model import Disk
from dacha.core.plan.doors import Forward
from dacha.core.units import show_size

if TYPE_CHECKING:
    from dacha.core.network.links import Link

LIVE, NEXT_START = "live", "at next start"


class WriteDown(NamedTuple):
    """Write a value that the plan chose into the lab file, so that it stays."""

    path: Path
    text: str
    when: str = LIVE

    @property
    def guest(self) -> str | None:
        return str(self.path[1]) if self.path[0] == "guest" else None

    def __str__(self) -> str:
        owner = " ".join(str(p) for p in self.path[:-1] if not isinstance(p, int))
        return f"lab.toml: {owner}: {self.path[-1]} = {self.text}"


class MakeHostKey(NamedTuple):
    """Make the guest's own SSH host key, so that the first contact is already trusted."""

    guest: str
    when: str = LIVE

    def __str__(self) -> str:
        return "make its SSH host key"


class MakeDisk(NamedTuple):
    """Make one disk: empty, an overlay on an image, or a copy of it."""

    guest: str
    disk: Disk
    when: str = LIVE

    def __str__(self) -> str:
        d = self.disk
        size = show_size(d.size) if d.size else "size of its image"
        image = f"{', a copy of' if d.copy else ' on'} {d.base}" if d.base else ""
        place = f", in storage {d.storage}" if d.storage else ""
        return f"make disk {d.name}, {size}{image}{', full' if d.full else ''}{place}"


class GrowDisk(NamedTuple):
    """Make a disk larger. What is on it stays; the guest sees the new room at once."""

    guest: str
    disk: str
    size: int
    when: str = LIVE

    def __str__(self) -> str:
        return f"grow disk {self.disk} to {show_size(self.size)}"


class AttachDisk(NamedTuple):
    """Put a disk into a running guest."""

    guest: str
    disk: str
    bus: str
    when: str = LIVE

    def __str__(self) -> str:
        return f"attach disk {self.disk} ({self.bus})"


class DetachDisk(NamedTuple):
    """Take a disk out of a running guest. What is on it stays."""

    guest: str
    disk: str
    when: str = LIVE

    def __str__(self) -> str:
        return f"detach disk {self.disk} (its contents stay)"


class DeleteDisk(NamedTuple):
    """Delete a disk of a guest that has left the lab, because it was asked for by name: what is on it is lost."""

    guest: str
    disk: str
    size: int
    when: str = LIVE

    def __str__(self) -> str:
        return f"delete disk {self.disk} ({show_size(self.size)}): what is on it is lost"


class MoveScreen(NamedTuple):
    """Let a running guest's display listen at another place, or (`port` None) at none but its socket."""

    guest: str
    origin: str | None
    port: int | None
    when: str = LIVE

    def __str__(self) -> str:
        return f"let its display listen for {self.origin} on port {self.port}" if self.port else "close its display"


class WriteSeed(NamedTuple):
    """Write the first-boot data."""

    guest: str
    digest: str
    when: str = LIVE

    def __str__(self) -> str:
        return "write its first-boot data"


class MakeLink(NamedTuple):
    """Make one of the lab's links, or put right what differs about it."""

    link: Link
    there: bool
    when: str = LIVE
    guest: str | None = None

    def __str__(self) -> str:
        # Imported when there is a link to speak of: most labs have none, and look at their changes at every command.
        from dacha.core.network.links import BridgeLink, DirectLink, HostBridge, VlanLink

        verb = "put right" if self.there else "make"
        if isinstance(self.link, BridgeLink):
            return f"{verb} network {self.link.network} ({self.link.name}, {', '.join(self.link.addresses)})"
        if isinstance(self.link, HostBridge):
            return f"{verb} bridge {self.link.name} over {self.link.adapter}, with this host's addresses there"
        if isinstance(self.link, VlanLink):
            return f"{verb} VLAN {self.link.number} of {self.link.parent} ({self.link.name})"
        if isinstance(self.link, DirectLink):
            return f"{verb} {self.link.guest}'s adapter {self.link.adapter} on {self.link.parent} ({self.link.name})"
        return f"{verb} the tap of {self.link.guest}'s adapter {self.link.adapter} ({self.link.name})"


class ReattachTap(NamedTuple):
    """Give a running guest's adapter the link again that was removed under it."""

    guest: str
    adapter: int
    link: str
    when: str = LIVE

    def __str__(self) -> str:
        return f"attach adapter {self.adapter} again: the link under it was removed"


class RemoveLink(NamedTuple):
    """Remove a link of the lab that nothing in it needs any more."""

    name: str
    alias: str
    when: str = LIVE
    guest: str | None = None

    def __str__(self) -> str:
        return f"remove {self.name} ({self.alias.split(':', 2)[-1].replace(':', ' ')})"


class LoadRules(NamedTuple):
    """Replace the lab's rules in the kernel, in one step: `doors` are how many, `opened` and `closed` those that
    change, by guest and name."""

    doors: int
    there: bool
    opened: tuple[tuple[str, str], ...] = ()
    closed: tuple[tuple[str, str], ...] = ()
    when: str = LIVE
    guest: str | None = None

    def __str__(self) -> str:
        parts = [f"{self.doors} door{'s' * (self.doors != 1)}"]
        parts += [f"{verb} {_some(keys)}" for verb, keys in (("opens", self.opened), ("closes", self.closed)) if keys]
        return f"{'replace' if self.there else 'load'} its rules ({'; '.join(parts)})"


def _some(keys: tuple[tuple[str, str], ...]) -> str:
    """The first few by name, and how many more."""
    named = ", ".join(" ".join(key) for key in keys[:3])
    return f"{named} and {len(keys) - 3} more" if len(keys) > 3 else named


class RemoveRules(NamedTuple):
    """Take the lab's rules out of the kernel."""

    when: str = LIVE
    guest: str | None = None

    def __str__(self) -> str:
        return "remove its rules"


class Forwarding(NamedTuple):
    """Let the kernel forward packets (the former state is remembered), or as it was before."""

    on: bool
    when: str = LIVE
    guest: str | None = None

    def __str__(self) -> str:
        return "switch forwarding on" if self.on else "put forwarding back as it was"


class AskRouter(NamedTuple):
    """Ask the router above this host to lead doors in from outside, and to take away what it led: by guest and name."""

    opened: tuple[tuple[str, str], ...] = ()
    closed: tuple[tuple[str, str], ...] = ()
    when: str = LIVE
    guest: str | None = None

    def __str__(self) -> str:
        parts = [f"to lead in {_some(self.opened)}"] if self.opened else []
        parts += [f"to lead in {_some(self.closed)} no more"] if self.closed else []
        return "ask the router " + ", and ".join(parts)


class Caretaker(NamedTuple):
    """Start the process that looks after the lab (addresses, names, the way from outside), or end it where nothing
    needs it."""

    on: bool
    when: str = LIVE
    guest: str | None = None

    def __str__(self) -> str:
        return "start the caretaker" if self.on else "stop the caretaker"


class StartGuest(NamedTuple):
    guest: str
    when: str = LIVE

    def __str__(self) -> str:
        return "start"


class StopGuest(NamedTuple):
    """Stop a guest that the lab no longer has. Its disks stay."""

    guest: str
    when: str = LIVE

    def __str__(self) -> str:
        return "stop: it is no longer in the lab file (its disks stay)"


class OpenForward(NamedTuple):
    guest: str
    door: str
    forward: Forward
    when: str = LIVE

    def __str__(self) -> str:
        return f"open door {self.door}: {self.forward}"


class CloseForward(NamedTuple):
    guest: str
    forward: Forward
    when: str = LIVE

    def __str__(self) -> str:
        return f"close {self.forward}"


class ChangeMedium(NamedTuple):
    """Put a medium into a running guest's drive, or take out what is in it (`path` None)."""

    guest: str
    drive: int
    path: str | None
    when: str = LIVE

    def __str__(self) -> str:
        return f"insert {self.path.rpartition('/')[2]}" if self.path else f"eject the medium in drive {self.drive}"


class ChangeMachine(NamedTuple):
    """Something about a running guest that only its next start can change."""

    guest: str
    what: str
    when: str = NEXT_START

    def __str__(self) -> str:
        return self.what


Change = (
    WriteDown
    | MakeHostKey
    | MakeDisk
    | GrowDisk
    | AttachDisk
    | DetachDisk
    | DeleteDisk
    | MoveScreen
    | WriteSeed
    | MakeLink
    | ReattachTap
    | RemoveLink
    | LoadRules
    | RemoveRules
    | Forwarding
    | AskRouter
    | Caretaker
    | StartGuest
    | StopGuest
    | OpenForward
    | CloseForward
    | ChangeMedium
    | ChangeMachine
)


def subject(change: Change) -> str:
    """What a change is about: "guest gauge", "door gauge ssh", "lab file", "this host"."""
    if isinstance(change, WriteDown):
        return "lab file"
    if isinstance(change, OpenForward):
        return f"door {change.guest} {change.door}"
    return f"guest {change.guest}" if change.guest else "this host"


def kind_of(change: Change) -> str:
    """The change's stable name in JSON: "start-guest"."""
    name = type(change).__name__
    return "".join(("-" if n and c.isupper() else "") + c.lower() for n, c in enumerate(name))
