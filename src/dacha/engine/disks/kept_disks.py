"""Disks that were kept when their guest left the lab: none is used again or deleted without an explicit request."""

from __future__ import annotations

import time
from pathlib import Path

from dacha.core.apply.changes import DeleteDisk
from dacha.core.errors import DachaError, HostError, UsageError
from dacha.core.findings import ERROR, WARNING, Finding
from dacha.core.lab.model import Guest
from dacha.core.named import NamedTuple
from dacha.core.units import exact_size
from dacha.engine.disks.owners import owners
from dacha.engine.home import Home
from dacha.engine.media.media import image_path
from dacha.engine.workspace import Workspace


class KeptDisk(NamedTuple):
    """A disk of an earlier guest: name, file, disk size (bytes, 0 if unreadable), the name of its backing image, and
    when it was last written (Unix seconds)."""

    name: str
    path: Path
    size: int
    base: str
    used: float

    def __str__(self) -> str:
        made = f", on {self.base}" if self.base else ""
        return f"{exact_size(self.size)}{made}, last used {time.strftime('%-d %B %Y', time.localtime(self.used))}"


def kept(home: Home, guest: str) -> list[KeptDisk]:
    """Every disk of an earlier guest of that name."""
    found = []
    for name, path in home.disks(guest):
        from dacha.hypervisor.images import chain

        size, base, used = 0, "", 0.0
        try:
            image = chain.as_image(path)
            size, base, used = image.size, image.files[1].stem if image.files[1:] else "", path.stat().st_mtime
        except (DachaError, OSError):
            pass  # its storage is not mounted: it is kept all the same
        found.append(KeptDisk(name, path, size, base, used))
    return found


def as_it_was(ws: Workspace, guest: str, name: str, usual: str) -> dict[str, str]:
    """The keys of a kept disk that is attached again: its exact size, and its last bus if that is not `usual` for its
    system. Raises HostError for a disk that is not readable."""
    from dacha.hypervisor.images import chain

    bus = ws.home.read(guest).buses.get(name, usual)
    size = exact_size(chain.as_image(ws.home.disk(guest, name)).size)
    return {"size": size} | ({"bus": bus} if bus != usual else {})


def refuse_silent(ws: Workspace, guest: str) -> None:
    """Refuse a new guest whose name has disks from an earlier one. Raises UsageError with the alternatives."""
    disks = kept(ws.home, guest)
    if disks:
        names = " ".join(d.name for d in disks)
        raise UsageError(
            "\n".join(f"disk {guest}/{d.name} of an earlier guest {guest} still exists ({d})" for d in disks),
            remedy=f"to use it: add --attach {names}\nto use a new disk: add --new-disk\n"
            f"to delete it: dacha guest remove {guest} --with-disks, then dacha apply",
        )


def chosen(ws: Workspace, guest: str, wanted: list[str]) -> list[KeptDisk]:
    """The kept disks of these names ("0", or "GUEST/0"). Raises UsageError for one that does not exist."""
    disks = {d.name: d for d in kept(ws.home, guest)}
    found = []
    for text in wanted:
        name = text.removeprefix(f"{guest}/")
        if name not in disks:
            kept_ones = ", ".join(disks) or "none"
            raise UsageError(
                f"no stored disk {name} of {guest} exists", remedy=f"choose one of the stored disks: {kept_ones}"
            )
        found.append(disks[name])
    return found


def take(home: Home, guest: str) -> bool:
    """Record that a guest's kept disks are its own again, by explicit request; False if there were none."""
    record = home.read(guest)
    if record.removed is None and not record.delete_disks:
        return False
    record.removed, record.delete_disks, record.stopped_on_purpose = None, [], False
    home.write(guest, record)
    return True


def returning(ws: Workspace) -> dict[str, list[KeptDisk]]:
    """Guests that are in the lab file again with the disks that they had: of the same names and sizes, on the same
    images. By name, with these disks."""
    found = {}
    for guest in ws.lab.guests.values():
        if not guest.disks or ws.home.read(guest.name).removed is None:
            continue
        disks = {d.name: d for d in kept(ws.home, guest.name)}
        same = [
            d.name in disks
            and d.size in (None, disks[d.name].size)
            and not _made_on(ws, guest, n, disks[d.name].path)
            and bool(d.base and not d.copy) == bool(disks[d.name].base)
            for n, d in enumerate(guest.disks)
        ]
        if all(same):
            found[guest.name] = [disks[d.name] for d in guest.disks]
    return found


def note_removed(ws: Workspace) -> None:
    """Record which guests have left the lab, so that a new one of the same name is not taken for the same."""
    for name in ws.home.guests():
        if name in ws.lab.guests or ws.home.is_running(name):
            continue
        record = ws.home.read(name)
        if record.removed is None:
            record.removed, record.stopped_on_purpose = time.time(), False
            ws.home.write(name, record)


def findings(ws: Workspace, guest: Guest) -> list[Finding]:
    """Problems of existing disks: kept from an earlier guest, or created from another image."""
    found: list[Finding] = []
    there = dict(ws.home.disks(guest.name))
    record, here = ws.home.read(guest.name), ("guest", guest.name)
    for n, disk in enumerate(guest.disks):
        if disk.name not in there:
            found += _gone(ws, guest, n)
            continue
        if record.removed is not None:
            what = f"disk {disk.name} of an earlier guest {guest.name} still exists"
            remedy = (
                f"to use it: dacha guest edit {guest.name} --attach-disk {disk.name}\n"
                f'to use a new disk: choose another name in the file, such as name = "new"'
            )
            found.append(Finding(ERROR, "disk-kept", f"guest {guest.name}", what, remedy, (*here, "disk", n), "host"))
            continue
        if disk.base and not disk.copy:
            found += _made_on(ws, guest, n, there[disk.name])
        if disk.passphrase:
            found += _not_encrypted(guest, n, there[disk.name])
    return found


def _not_encrypted(guest: Guest, n: int, path: Path) -> list[Finding]:
    """A disk that got a passphrase in the lab file after its creation."""
    from dacha.hypervisor.images import chain

    try:
        if chain.passphrase_source(path):
            return []
    except DachaError:
        return []  # its start says why
    what = f"disk {guest.disks[n].name} is not encrypted: a passphrase counts from its creation on"
    remedy = "remove the key passphrase, or add a new disk with it and copy the contents in the guest"
    where = ("guest", guest.name, "disk", n, "passphrase")
    return [Finding(WARNING, "disk-plain", f"guest {guest.name}", what, remedy, where, "host")]


def _gone(ws: Workspace, guest: Guest, n: int) -> list[Finding]:
    """A disk that was created before but no longer exists: its record is still there. It is never created again
    silently."""
    path = ws.home.disk(guest.name, guest.disks[n].name)
    note = ws.home.disk_note(guest.name, guest.disks[n].name)
    if not note.exists() or path.is_symlink():
        return []
    what = f"disk {guest.disks[n].name} was created before, but its file no longer exists: {path}"
    remedy = f"to use it again: restore the file there\nto start with a new, empty one: rm {note}"
    return [Finding(ERROR, "disk-gone", f"guest {guest.name}", what, remedy, ("guest", guest.name, "disk", n), "host")]


def _made_on(ws: Workspace, guest: Guest, n: int, path: Path) -> list[Finding]:
    """A disk whose `from` was changed after its creation: its contents do not change."""
    from dacha.hypervisor.images import chain

    disk = guest.disks[n]
    try:
        below = chain.layers(path)[1:]
        wanted = image_path(ws, disk.base or "").resolve()
    except DachaError:
        return []
    if not below or below[0][0].resolve() == wanted:
        return []
    where = ("guest", guest.name, "disk", n, "from")
    if not below[0][0].exists():
        what = f"disk {disk.name} needs the image {below[0][0]}, which no longer exists"
        if not chain.made_on(path, wanted):
            remedy = f"move the image back to {below[0][0]}"
        else:
            what += f"; the same image is now at {wanted}"
            remedy = f"dacha lab move {ws.lab.name} --file {ws.path}"
        return [Finding(ERROR, "image-gone", f"guest {guest.name}", what, remedy, where, "host")]
    what = (
        f"disk {disk.name} was created from {below[0][0].name}; the changed key `from` ({disk.base}) does not affect it"
    )
    remedy = f'restore `from`, or choose another name for the new disk: name = "{disk.name}-new"'
    return [Finding(WARNING, "disk-base", f"guest {guest.name}", what, remedy, where, "host")]


def delete(home: Home, change: DeleteDisk) -> None:
    """Delete one named disk, and after the last one all files of its guest. Raises HostError."""
    if home.is_running(change.guest):
        raise HostError(
            f"{change.guest} is on, so its disk {change.disk} cannot be deleted", remedy=f"dacha stop {change.guest}"
        )
    path = home.disk(change.guest, change.disk)
    from dacha.hypervisor.images import chain

    real = path.resolve()  # including one in a storage
    others = [link for link in owners(home, real) if link != path]
    if others:
        raise HostError(
            f"disk {change.disk} of {change.guest} is not deleted: {others[0].parent.name} of lab "
            f"{others[0].parents[2].name} uses the same file",
            where=str(real),
            remedy=f"to remove it from {change.guest} only: rm {path}",
        )
    try:
        # The record first: a disk without one gets one, but a record without its disk means that somebody else deleted
        # it.
        chain.note_file(path).unlink(missing_ok=True)
        real.unlink(missing_ok=True)
        path.unlink(missing_ok=True)
    except OSError as e:
        raise HostError(f"cannot delete {path}", why=e.strerror or str(e)) from e
    if not home.disks(change.guest):
        home.forget_guest(change.guest)
