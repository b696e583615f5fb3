"""The bitmaps of archives in images that no guest has open; `hypervisor/live/bitmaps.py` has those of running
guests."""

from __future__ import annotations

import json
from pathlib import Path

from dacha.core.archive.marks import PREFIX
from dacha.formats.disk import qcow2
from dacha.hypervisor.images.image_tool import alone, ran


def forget(disk: Path, key: bytes | None = None) -> None:
    """Remove the bitmaps of archives from a disk: the next archive is whole. QEMU restores no snapshot of a disk with
    bitmaps, and resizes none whose bitmaps are damaged. What cannot be removed stays: what it prevents tells why."""
    with disk.open("rb") as file:
        if not qcow2.has_bitmaps(file.read(qcow2.HEAD)):
            return
    # A process that just ended may still have the image: the caller waits for it.
    code, out, _ = ran({"key": key}, ["info", "--output=json", *alone(disk, key)], read=[disk])
    if code:
        return
    data = json.loads(out).get("format-specific", {}).get("data", {})
    for name in (str(b.get("name")) for b in data.get("bitmaps", ())):
        if name.startswith(PREFIX):
            ran({"key": key}, ["bitmap", "--remove", *alone(disk, key), name], write=[disk])
