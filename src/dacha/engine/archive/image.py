"""Store an image of a guest's first disk as a medium, for new guests: without what belongs to this guest alone."""

from __future__ import annotations

import io
import os
from collections.abc import Callable
from functools import partial
from pathlib import Path

from dacha.core.apply.observed import ON, SAVED
from dacha.core.errors import AnswerNo, UsageError
from dacha.core.named import NamedTuple
from dacha.engine.archive.cleaning import INSTEAD, Cleaned, clean
from dacha.engine.disks.disks import attached
from dacha.engine.guest.observe import observe_guest
from dacha.engine.lab.named import guest_named
from dacha.engine.media.media_store import Kept, Store
from dacha.engine.states.copying import copy_live, settle, working_folder
from dacha.engine.workspace import Workspace
from dacha.hypervisor.images import chain, making
from dacha.hypervisor.images.ext import tool
from dacha.hypervisor.images.image_tool import Image

Progress = Callable[[str, float], None]


class Imaged(NamedTuple):
    """A medium created from a guest; `cleaned` is None if it was stored as it is; `frozen` is whether the guest's
    file systems were frozen at that moment (None if it was not running); `needs` are keys of the guest's table that a
    new guest needs, too, with their values; `omitted` are its further disks."""

    kept: Kept
    cleaned: Cleaned | None
    frozen: bool | None
    needs: tuple[tuple[str, str], ...]
    omitted: tuple[str, ...]


def store_image(
    ws: Workspace, guest: str, name: str, *, storage: str, as_it_is: bool, progress: Progress
) -> Imaged:  # fmt: skip
    """Add an image of a guest's first disk to a store under the name `name`. The lab's lock must be held. The guest is
    not changed. Raises UsageError, AnswerNo (it cannot be cleaned), HostError; then nothing is stored."""
    home, table = ws.home, guest_named(ws, guest)
    settle(ws)
    home.refuse_if_archived(guest)
    if not table.disks or not (disk := home.disk(guest, table.disks[0].name)).exists():
        raise UsageError(f"{guest} has no disk yet", remedy=f"start it first: dacha start {guest}")
    _refuse(ws, guest, disk, as_it_is=as_it_is)
    store = Store(ws.lab)
    folder = store.folder(storage)
    with store.writing(folder, name), working_folder(home, guest) as work:
        store.refuse_in_use(name)
        source, frozen = _still(ws, guest, table.disks[0].name, work, partial(progress, f"copying {guest}"))
        cleaned = None
        if not as_it_is:
            raw = work / "disk.raw"
            making.raw_copy(source, raw, partial(progress, "preparing the image"))
            cleaned = clean(raw)
            source = Image(raw, "raw", raw.stat().st_size, (raw,))
        part = folder / f".{name}.{os.getpid()}.part"
        try:
            making.compress(source, part, partial(progress, f"compressing {name}"))
            kept, _ = store.add(io.BytesIO(), name, storage=storage, part=part)
        finally:
            part.unlink(missing_ok=True)
    boot = table.boot
    needs: tuple[tuple[str, str], ...] = (("firmware", table.firmware),) if table.firmware != "bios" else ()
    needs += (
        (("kernel", boot.kernel), ("initrd", boot.initrd or ""), ("command-line", boot.command_line)) if boot else ()
    )
    return Imaged(kept, cleaned, frozen, tuple(n for n in needs if n[1]), tuple(d.name for d in table.disks[1:]))


def _refuse(ws: Workspace, guest: str, disk: Path, *, as_it_is: bool) -> None:
    """Refuse a guest of which no such image can be made."""
    if observe_guest(ws.home, guest, forwards=False).state == SAVED:
        raise AnswerNo(
            f"{guest} is saved to disk, and its disk belongs to that state", remedy=f"dacha start {guest}"
        )  # fmt: skip
    if chain.passphrase_source(disk):
        raise AnswerNo(
            f"{chain.words(disk)} is encrypted, and the image would not be",
            remedy=f"to move the guest with its encryption: dacha guest save {guest} FILE",
        )
    if as_it_is:
        return
    if ws.lab.guests[guest].system == "windows":
        raise AnswerNo(f"{guest} runs Windows, which Dacha cannot prepare for copies", remedy=INSTEAD)
    for name in ("e2fsck", "debugfs"):
        tool(name)


def _still(
    ws: Workspace, guest: str, disk: str, work: Path, progress: Callable[[float], None]
) -> tuple[Image, bool | None]:
    """An image of the disk that does not change: the disk itself if its guest is off, else a copy; and whether the
    guest's file systems were frozen for that."""
    home = ws.home
    path = home.disk(guest, disk)
    if disk not in attached(home, guest):
        return chain.as_image(path), None
    copied = work / f"{disk}.qcow2"
    state = observe_guest(home, guest, forwards=False).state
    frozen = copy_live(home, guest, {disk: (path, copied)}, whole=True, frozen_if=state == ON, progress=progress)
    return Image(copied, "qcow2", chain.as_image(path).size, (copied,)), frozen
