"""Snapshots inside the images of disks that no guest has open, by QEMU's own tool; `hypervisor/live` has those of
running guests.

A snapshot is in the image of its disk, not in a layer of its own: it costs the guest nothing while it runs, moves and
is deleted with the disk, and its removal gives the room back while the guest runs. QEMU writes its tables in an order
that leaves the contents intact whenever it is interrupted; what may be left is space without an owner (`free_lost`).
"""

from __future__ import annotations

import fcntl
import struct
import time
from pathlib import Path

from dacha.core.errors import HostError, PeerError
from dacha.formats.disk import qcow2_snapshots
from dacha.formats.disk.qcow2_snapshots import Inside
from dacha.host.processes import holder
from dacha.hypervisor.images import bitmaps
from dacha.hypervisor.images.image_tool import alone, ran, run_with, words_of

# QEMU locks a byte of an image for each thing that it may do with it; this one is to write (QEMU: file-posix.c).
_WRITES = 101
# fcntl(2); struct flock: type, whence, start, length, process.
_LOCK_OF = 36
_LOCK = struct.Struct("@hhqqi4x")
# How long a process that ends may still have an image (seconds): a busy disk holds it back even when it is killed.
STILL_WRITTEN_S = 10.0


def wait_unwritten(disk: Path, seconds: float = STILL_WRITTEN_S) -> None:
    """Wait until no other process has an image open for writing. Raises HostError if one keeps it."""
    deadline = time.monotonic() + seconds
    try:
        with disk.open("rb") as file:
            while _is_written(file.fileno()):
                if time.monotonic() > deadline:
                    raise HostError(
                        f"{holder(disk) or 'another program'} has {disk} open for writing",
                        why="concurrent writes would corrupt its contents",
                        remedy="end that program, then repeat the command",
                    )
                time.sleep(0.05)
    except OSError as e:
        raise HostError(f"cannot read {disk}", why=e.strerror or str(e)) from e


def _is_written(descriptor: int) -> bool:
    try:
        told = fcntl.fcntl(descriptor, _LOCK_OF, _LOCK.pack(fcntl.F_WRLCK, 0, _WRITES, 1, 0))
    except OSError:
        return False  # A file system without locks: QEMU has none there either.
    return bool(_LOCK.unpack(told)[0] != fcntl.F_UNLCK)


def in_image(disk: Path) -> dict[str, Inside]:
    """The snapshots in an image, by name. Raises HostError if it is not readable, PeerError if it is malformed."""
    with _reading(disk) as read:
        return {s.name: s for s in qcow2_snapshots.inside(read)}


def own_bytes(disk: Path, snapshot: Inside) -> int:
    """The bytes of an image that only this snapshot uses. Raises HostError, PeerError."""
    with _reading(disk) as read:
        return qcow2_snapshots.own_bytes(read, snapshot)


class _reading:
    """An image, open for reading at any place."""

    def __init__(self, disk: Path) -> None:
        self._disk = disk

    def __enter__(self) -> qcow2_snapshots.Read:
        try:
            self._file = self._disk.open("rb")
        except OSError as e:
            raise HostError(f"cannot read {self._disk}", why=e.strerror or str(e)) from e
        return self._read

    def __exit__(self, *exc: object) -> None:
        self._file.close()

    def _read(self, at: int, length: int) -> bytes:
        try:
            self._file.seek(at)
            return self._file.read(length)
        except (OSError, OverflowError) as e:
            raise PeerError(f"{self._disk} cannot be read at {at}", why=str(e)) from e


def take(disk: Path, name: str, key: bytes | None = None) -> None:
    """Take a snapshot of a disk that no guest has open. Raises HostError."""
    _run(["-c", name], disk, key, f"cannot take a snapshot of {disk}")


def go_back(disk: Path, name: str, key: bytes | None = None) -> None:
    """Make a disk that no guest has open what it was. The same again changes nothing. Raises HostError."""
    wait_unwritten(disk)
    bitmaps.forget(disk, key)
    _run(["-a", name], disk, key, f"cannot restore a snapshot of {disk}")


def delete(disk: Path, name: str, key: bytes | None = None) -> None:
    """Delete a snapshot of a disk that no guest has open. Raises HostError."""
    _run(["-d", name], disk, key, f"cannot delete a snapshot of {disk}")


def free_lost(disk: Path, key: bytes | None = None) -> None:
    """Free the space that an interrupted operation left without an owner. Raises HostError."""
    command = ["check", "-q", "-r", "leaks", *alone(disk, key)]
    code, _, err = ran({"key": key}, command, write=[disk])
    if code not in (0, 3):
        raise HostError(f"{disk} cannot be checked", why=words_of(err))


def _run(action: list[str], disk: Path, key: bytes | None, failed: str) -> None:
    wait_unwritten(disk)
    run_with({"key": key}, ["snapshot", "-q", *action, *alone(disk, key)], failed, write=[disk])
