"""Changes of a guest in the lab file, from command line options."""

from __future__ import annotations

from dacha.core.errors import UsageError
from dacha.core.findings import Path
from dacha.core.lab.model import Guest
from dacha.core.lab.text.edits import Edit, Remove, Set
from dacha.core.named import NamedTuple
from dacha.engine.lab.disk_edits import disk_edits, image_edits, size_edits, storage_edits
from dacha.engine.lab.guest_values import (
    AdapterValues,
    Values,
    adapter_edits,
    archive_values,
    boot_values,
    machine_values,
    start_values,
)
from dacha.engine.lab.named import guest_named
from dacha.engine.lab.proposals import tidy_size, written_key, written_path
from dacha.engine.lab.unset import unset_edits
from dacha.engine.workspace import Workspace


class GuestChange(NamedTuple):
    """The changes of a guest, besides its values: names as on the command line."""

    name: str
    user: str | None = None
    keys: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    image: str | None = None
    kernel: str | None = None
    initrd: str | None = None
    command_line: str | None = None
    disks: tuple[str, ...] = ()
    move_disks: tuple[str, ...] = ()
    add_adapters: tuple[str, ...] = ()
    remove_adapters: tuple[str, ...] = ()
    add_disks: tuple[str, ...] = ()
    detach_disks: tuple[str, ...] = ()
    attach_disks: tuple[str, ...] = ()
    add_drives: tuple[str, ...] = ()
    remove_drives: tuple[str, ...] = ()
    add_usb: tuple[str, ...] = ()
    remove_usb: tuple[str, ...] = ()
    unset: tuple[str, ...] = ()


def retaken_disks(ws: Workspace, asked: GuestChange) -> list[str]:
    """Disks in the file that also exist from an earlier guest: on request, they are used again."""
    guest = guest_named(ws, asked.name)
    if ws.home.read(asked.name).removed is None:
        return []
    return sorted({d.name for d in guest.disks} & set(asked.attach_disks))


def guest_edits(ws: Workspace, asked: GuestChange, values: Values, adapters: AdapterValues) -> list[Edit]:
    """The edits that change the guest. Raises UsageError, also without any change."""
    guest = guest_named(ws, asked.name)
    here = ("guest", asked.name)
    edits: list[Edit] = [Set((*here, key), value) for key, value in machine_values(values).items()]
    edits += [Set((*here, "start", key), value) for key, value in start_values(values).items()]
    if (archive := archive_values(ws, values)) and guest.archive is None and "folder" not in archive:
        raise UsageError(f"{asked.name} has no folder for archives", remedy="add --archive-in FOLDER")
    edits += [Set((*here, "archive", key), value) for key, value in archive.items()]
    edits += _login(ws, guest, here, asked)
    edits += _boot(ws, guest, here, asked)
    edits += size_edits(guest, asked.disks)
    edits += storage_edits(ws, guest, asked.move_disks)
    if asked.image:
        edits += image_edits(ws, guest, written_path(ws, asked.image))
    names = [a.network for a in guest.adapters]
    edits += _adapters(guest, here, asked, names)
    edits += adapter_edits(here, names, adapters)
    retaken = retaken_disks(ws, asked)
    attach = [d for d in asked.attach_disks if d not in retaken]
    edits += disk_edits(ws, guest, list(asked.detach_disks), attach, [tidy_size(s) for s in asked.add_disks])
    edits += _drives(guest, here, asked)
    if asked.add_usb or asked.remove_usb:
        from dacha.engine.lab.usb_edits import usb_edits

        edits += usb_edits(guest, here, asked.add_usb, asked.remove_usb)
    edits += unset_edits(ws, here, asked.unset)
    if not edits and not retaken:
        raise UsageError("no changes specified", remedy="see: dacha guest edit --help")
    return edits


def _login(ws: Workspace, guest: Guest, here: Path, asked: GuestChange) -> list[Edit]:
    if not asked.user and not asked.keys and not asked.groups:
        return []
    keys = [written_key(ws, key) for key in asked.keys]
    if guest.login is None:
        groups = {"groups": list(asked.groups)} if asked.groups else {}
        return [Set((*here, "login"), {"user": asked.user or "ops", "keys": keys} | groups)]
    edits: list[Edit] = [Set((*here, "login", "user"), asked.user)] if asked.user else []
    if asked.keys:
        edits.append(Set((*here, "login", "keys"), list(dict.fromkeys([*guest.login.keys, *keys]))))
    if asked.groups:
        edits.append(Set((*here, "login", "groups"), list(dict.fromkeys([*guest.login.groups, *asked.groups]))))
    return edits


def _boot(ws: Workspace, guest: Guest, here: Path, asked: GuestChange) -> list[Edit]:
    """The kernel that it boots directly. Raises UsageError for an initrd or command line without a kernel."""
    has = guest.boot is not None
    named = boot_values(ws, asked.kernel, asked.initrd, asked.command_line, has_kernel=has)
    if named and not has:
        return [Set((*here, "boot"), named)]
    return [Set((*here, "boot", key), value) for key, value in named.items()]


def _drives(guest: Guest, here: Path, asked: GuestChange) -> list[Edit]:
    """Add and remove drives, each named by its medium. Raises UsageError."""
    media = list(guest.media)
    for medium in asked.remove_drives:
        if medium not in media:
            known = f"choose one of its media: {', '.join(media)}" if media else "look at its drives: dacha guest show"
            raise UsageError(f"{guest.name} has no drive with {medium}", remedy=known)
        media.remove(medium)
    media += [m for m in asked.add_drives if m not in media]
    if tuple(media) == guest.media:
        return []
    return [Set((*here, "medium"), media)] if media else [Remove((*here, "medium"))]


def _adapters(guest: Guest, here: Path, asked: GuestChange, names: list[str]) -> list[Edit]:
    """Add and remove adapters; `names` becomes the list of its networks."""
    edits: list[Edit] = []
    for network in asked.remove_adapters:
        if network not in names:
            raise UsageError(
                f"{asked.name} has no adapter on {network}",
                remedy=f"choose one of its networks: {', '.join(names) or 'none'}",
            )
        n = names.index(network)
        names.pop(n)
        edits.append(Remove((*here, "adapter", n)))
    for network in asked.add_adapters:
        if guest.adapters:
            edits.append(Set((*here, "adapter", len(names)), {"network": network}))
        else:
            edits.append(Set((*here, "adapter"), [{"network": network}]))
        names.append(network)
    return edits
