"""Load a guest from an archive, under its own name or another one.

The file `copying` in the new guest's folder exists until the lab file has the guest: what a killed command left is
deleted by the next one (`engine/states/copying.py`).
"""

from __future__ import annotations

import platform
from collections.abc import Callable
from pathlib import Path
from typing import Any, BinaryIO

from dacha.core.archive.manifest import Manifest
from dacha.core.errors import AnswerNo, HostError, UsageError
from dacha.core.findings import ERROR, Finding
from dacha.core.lab.model import Lab
from dacha.core.lab.text.edits import Set
from dacha.core.named import NamedTuple
from dacha.core.plan.requests import READS, requests
from dacha.core.spelling import did_you_mean
from dacha.core.units import exact_size, show_size
from dacha.engine.archive.bases import earlier
from dacha.engine.archive.extracting import extract_all
from dacha.engine.archive.reading import Archive
from dacha.engine.disks.room import space
from dacha.engine.home import Home
from dacha.engine.lab.edit import edit_lab
from dacha.engine.lab.named import refuse_new_name
from dacha.engine.states import copying
from dacha.engine.workspace import Workspace

Progress = Callable[[str, float], None]
TRUST = "if you trust the archive, add --trust"
# Keys of a guest's table that name files, ports and devices of the host that it came from.
ELSEWHERE = ("share", "screen", "medium", "install", "archive", "usb")


class Loaded(NamedTuple):
    """A loaded guest: the workspace with it, its description, its name, and the keys that were left out of its table,
    as they name what is on another host."""

    ws: Workspace
    manifest: Manifest
    guest: str
    omitted: tuple[str, ...]


def load(named: str | None, ws: Workspace, stream: BinaryIO, new: str | None, *, network: str | None, trusted: bool,
         progress: Progress, file: Path | None = None) -> Loaded:  # fmt: skip
    """Load a guest from a stream, of a `file` if others may be beside it. The lab's lock must be held. Raises AnswerNo
    for an archive that is not whole, UsageError, LabError, HostError; then nothing is left of the guest."""
    home = ws.home
    copying.settle(ws)
    archive = Archive(stream)
    name = new or archive.manifest.guest
    refuse_new_name(ws, name)
    before = earlier(file, archive.manifest)
    _refuse(home, archive.manifest, [e.manifest for e in before])
    table, omitted = _table(ws, archive.manifest, name, network)
    home.make_guest(name)
    copying.marker(home, name).write_text("")
    try:
        extract_all(home, name, before, archive, lambda share: progress(f"loading {name}", share))
        record = home.read(name)
        record.installed = archive.manifest.installed
        record.buses = {d.name: d.bus for d in archive.manifest.disks}
        home.write(name, record)
        judge = (lambda after: []) if trusted else (lambda after: _reads(ws.lab, after.lab, name))
        ws = edit_lab(named, lambda before: [Set(("guest", name), table)], judge, TRUST)
    except BaseException:
        home.forget_guest(name)
        raise
    copying.marker(home, name).unlink()
    return Loaded(ws, archive.manifest, name, omitted)


def _reads(before: Lab, after: Lab, name: str) -> list[Finding]:
    """Files of this host that the archive's guest would be given, and that no guest of this lab has: an archive may
    come from anybody. Public keys are no secret."""
    known = {r.what for r in requests(before) if r.kind == READS}
    guest = after.guests[name]
    keys = [*(guest.login.keys if guest.login else ()), *(k for u in guest.setup.users for k in u.keys)]
    found = []
    for asked in requests(after):
        if asked.kind == READS and asked.subject == f"guest {name}" and asked.what not in (*known, *keys):
            what = f"it would be given a file of this host: {asked.what}"
            found.append(Finding(ERROR, "archive-reads", f"guest {name}", what, "", ("guest", name), "host"))
    return found


def _refuse(home: Home, manifest: Manifest, before: list[Manifest]) -> None:
    """Refuse a guest that cannot run here, or has no room here, before anything is written."""
    here = platform.machine()
    if manifest.architecture != here:
        raise AnswerNo(
            f"{manifest.guest} is a guest for {manifest.architecture}, and this host has {here}",
            remedy="load it on a host with that architecture",
        )
    free, needed = space(home.folder)[0], sum(d.length for m in (manifest, *before) for d in m.disks)
    if needed > free:
        raise HostError(
            f"no room for {manifest.guest}: its disks may take {show_size(needed)}",
            why=f"{show_size(free)} is free in {home.folder}", remedy="free some space there",
        )  # fmt: skip


def _table(ws: Workspace, manifest: Manifest, name: str, network: str | None) -> tuple[dict[str, Any], tuple[str, ...]]:
    """The guest's table for this lab: on networks of this lab, with disks that need no image, and addresses and ports
    that are free. Raises UsageError."""
    table = copying.own_table(manifest.table, keep=name == manifest.guest and manifest.lab == ws.lab.name)
    omitted = [key for key in ELSEWHERE if table.pop(key, None) is not None]
    if (boot := table.get("boot")) and not all(
        ws.resolve(str(f)).is_file() for f in (boot.get("kernel"), boot.get("initrd")) if f
    ):
        table.pop("boot")
        omitted.append("boot")
    disks = {d.name: d for d in manifest.disks}
    written = table.get("disk", [])
    rows = written if isinstance(written, list) else [written]
    table["disk"] = []
    for n, row in enumerate(rows):
        disk = disks.get(str(row.get("name", n)))
        if disk is not None:
            kept = {k: v for k, v in row.items() if k in ("name", "bus")}
            if "passphrase" in row:
                kept["passphrase"] = row["passphrase"] if manifest.lab == ws.lab.name else "ask"
            table["disk"].append(kept | ({} if disk.name in (str(n), row.get("name")) else {"name": disk.name})
                                 | {"size": exact_size(disk.size)})  # fmt: skip
    adapters = table.get("adapter", [])
    for adapter in adapters if isinstance(adapters, list) else [adapters]:
        wanted = network or adapter.get("network")
        if wanted not in ws.lab.networks:
            raise UsageError(
                f"{manifest.guest} has an adapter in network {adapter.get('network')}, which this lab does not have",
                remedy=did_you_mean(str(wanted), ws.lab.networks, "choose one: --network NETWORK"),
            )
        adapter["network"] = wanted
    return table, tuple(omitted)
