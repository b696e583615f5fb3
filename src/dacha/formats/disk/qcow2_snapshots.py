"""The snapshots inside a qcow2 image: their names, and the space that each needs for itself (QEMU documentation:
interop/qcow2, "Snapshots" and "Cluster mapping").

An image may belong to a guest whose process is hostile: every number in it is checked, and what is read is limited.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.formats.disk.qcow2 import MAGIC

# Reads so many bytes at an offset of the image; fewer at its end.
Read = Callable[[int, int], bytes]
# More snapshots than QEMU itself allows are not read, nor larger tables.
SNAPSHOTS_MOST, TABLE_MOST, NAME_MOST, FURTHEST = 65536, 32 << 20, 1024, 1 << 56
# The part of an entry that is an offset, in tables of the first and the second level.
_OFFSET = 0x00FFFFFFFFFFFE00
_COMPRESSED = 1 << 62
_ENTRY = struct.Struct(">QIHHIIQII")
# Refcount blocks that are held in memory at the same time.
_BLOCKS_MOST = 64


class Inside(NamedTuple):
    """A snapshot in an image: its name, when it was taken (Unix seconds), the size of the disk then (bytes), and its
    table of the first level: offset in the image and number of entries."""

    name: str
    at: int
    size: int
    table: int
    entries: int


class _Image:
    """The parts of a header that lead to the tables."""

    def __init__(self, read: Read) -> None:
        self._read = read
        head = read(0, 104)
        if head[:4] != MAGIC or len(head) < 72:
            raise PeerError("not a qcow2 image")
        version: int = struct.unpack_from(">I", head, 4)[0]
        self.bits: int = struct.unpack_from(">I", head, 20)[0]
        if version not in (2, 3) or not 9 <= self.bits <= 21:
            raise PeerError(f"qcow2: version {version} with clusters of 2^{self.bits} bytes is not supported")
        self.size: int = struct.unpack_from(">Q", head, 24)[0]
        self.refcounts, self.refcount_clusters, self.count, self.snapshots = struct.unpack_from(">QIIQ", head, 48)
        features = struct.unpack_from(">Q", head, 72)[0] if version == 3 and len(head) >= 104 else 0
        order = struct.unpack_from(">I", head, 96)[0] if version == 3 and len(head) >= 104 else 4
        if order > 6:
            raise PeerError(f"qcow2: invalid width of refcounts, 2^{order} bits")
        self.refcount_bits, self.wide = 1 << order, bool(features & 1 << 4)
        self._blocks: dict[int, bytes] = {}
        self._table = b""

    @property
    def cluster(self) -> int:
        return 1 << self.bits

    def read(self, at: int, length: int) -> bytes:
        if length > TABLE_MOST or at > FURTHEST:
            raise PeerError(f"qcow2: a table of {length} bytes at {at} is not possible")
        return self._read(at, length)

    def references(self, offset: int) -> int:
        """How often a cluster is referenced, by its refcount."""
        each = self.cluster * 8 // self.refcount_bits
        block, index = divmod(offset >> self.bits, each)
        if not self._table:
            self._table = self.read(self.refcounts, self.refcount_clusters << self.bits)
        if block * 8 + 8 > len(self._table):
            return 0
        if block not in self._blocks:
            if len(self._blocks) >= _BLOCKS_MOST:
                self._blocks.pop(next(iter(self._blocks)))
            where = struct.unpack_from(">Q", self._table, block * 8)[0] & ~0x1FF
            self._blocks[block] = self.read(where, self.cluster) if where else b""
        held = self._blocks[block]
        if self.refcount_bits < 8:
            at, shift = divmod(index * self.refcount_bits, 8)
            return int(held[at] >> shift & (1 << self.refcount_bits) - 1) if at < len(held) else 0
        width = self.refcount_bits // 8
        return int.from_bytes(held[index * width : index * width + width], "big")


def inside(read: Read) -> list[Inside]:
    """The snapshots in an image, oldest first. Raises PeerError for an image that is malformed or of another format."""
    image = _Image(read)
    if image.count > SNAPSHOTS_MOST:
        raise PeerError(f"qcow2: {image.count} snapshots are too many")
    found, at = [], image.snapshots
    for _ in range(image.count):
        head = image.read(at, _ENTRY.size)
        if len(head) < _ENTRY.size:
            raise PeerError("qcow2: the list of snapshots is truncated")
        table, entries, id_length, name_length, seconds, _, _, _, extra = _ENTRY.unpack(head)
        if extra > NAME_MOST or name_length > NAME_MOST or id_length > NAME_MOST:
            raise PeerError("qcow2: an entry in the list of snapshots is too long")
        rest = image.read(at + _ENTRY.size, extra + id_length + name_length)
        size = struct.unpack_from(">Q", rest, 8)[0] if extra >= 16 and len(rest) >= 16 else image.size
        name = rest[extra + id_length :].decode(errors="replace")
        found.append(Inside(name, seconds, size, table, entries))
        at += _ENTRY.size + extra + id_length + name_length + 7 & ~7
    return found


def own_bytes(read: Read, snapshot: Inside) -> int:
    """The bytes of an image that only this snapshot uses, which its removal frees. Raises PeerError."""
    image = _Image(read)
    own, seen = 0, set[int]()
    table = image.read(snapshot.table, snapshot.entries * 8)
    for (entry,) in struct.iter_unpack(">Q", table[: len(table) & ~7]):
        second = entry & _OFFSET
        # A shared table of the second level has only shared clusters: each counts once for each table.
        if second and image.references(second) == 1:
            if second in seen:
                raise PeerError("qcow2: a table is referenced more often than it says")
            seen.add(second)
            own += image.cluster + _own_clusters(image, image.read(second, image.cluster)) * image.cluster
    return own + (snapshot.entries * 8 + image.cluster - 1 >> image.bits) * image.cluster


def _own_clusters(image: _Image, table: bytes) -> int:
    """How many clusters of a table of the second level have no other reference. Compressed ones share clusters with
    each other, and are not counted."""
    rows = struct.unpack(f">{len(table) // 8}Q", table[: len(table) & ~7])
    rows = rows[::2] if image.wide else rows
    return sum(1 for row in rows if not row & _COMPRESSED and row & _OFFSET and image.references(row & _OFFSET) == 1)
