"""The header of a qcow2 image: the size of its disk, and its backing image (QEMU documentation: interop/qcow2)."""

from __future__ import annotations

import struct

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

MAGIC = b"QFI\xfb"
# The backing image's name is in the first cluster, which has 64 KiB by default.
HEAD = 65536
_FIXED = struct.Struct(">4sIQIIQI")
_BACKING_FORMAT, _DATA_FILE, _END = 0xE2792ACA, 0x44415441, 0
# Encryption methods: none, or LUKS; the older one (1) is not secure.
_LUKS = 2
# Incompatible features: a reader that does not know one must stop. Known are: dirty, corrupt, other compression, longer
# tables. An external data file (bit 2) is known but refused.
_EXTERNAL_DATA, _KNOWN = 1 << 2, 1 << 0 | 1 << 1 | 1 << 3 | 1 << 4

# Features that a writer clears if it does not know them: bitmaps.
_BITMAPS = 1 << 0


class Header(NamedTuple):
    """`size` in bytes; `backing` is the name of the backing image as written, with its format if known; `encrypted` by
    LUKS."""

    size: int
    backing: str | None
    backing_format: str | None
    encrypted: bool = False


def size_of(head: bytes) -> int:
    """The size of the disk in an image (bytes), from its first 32 bytes; 0 for another format."""
    return int.from_bytes(head[24:32], "big") if head[:4] == MAGIC and len(head) >= 32 else 0


def first_table(head: bytes) -> tuple[int, int]:
    """Where the first level of an image's tables is, and its length (bytes): it is zero as long as nothing was ever
    written to the disk. (0, 0) for another format."""
    if head[:4] != MAGIC or len(head) < 72:
        return 0, 0
    entries, offset = struct.unpack_from(">IQ", head, 36)
    return offset, 8 * entries


def has_bitmaps(head: bytes) -> bool:
    """True if an image has bitmaps that describe its present contents, from its first 104 bytes: a writer that does not
    know them clears this feature."""
    if head[:4] != MAGIC or len(head) < 104 or head[7] < 3:
        return False
    return bool(struct.unpack_from(">Q", head, 88)[0] & _BITMAPS)


def decode(head: bytes) -> Header | None:
    """Read an image's first bytes; None for an image in another format. Raises PeerError if they are truncated, of an
    unknown version, encrypted by an old method, or refer to a data file."""
    if head[:4] != MAGIC:
        return None
    if len(head) < 104:
        raise PeerError(f"truncated qcow2 header ({len(head)} bytes)")
    _, version, at, length, _, size, encrypted = _FIXED.unpack_from(head)
    if version not in (2, 3):
        raise PeerError(f"qcow2: unknown version {version}")
    if encrypted not in (0, _LUKS):
        raise PeerError("qcow2: it is encrypted by a method that is not supported")
    features = struct.unpack_from(">Q", head, 72)[0] if version == 3 else 0
    if features & _EXTERNAL_DATA:
        raise PeerError("qcow2: its contents are in another file")
    if features & ~_KNOWN:
        raise PeerError(f"qcow2: it uses unknown features ({features & ~_KNOWN:#x})")
    if at and (length > 1023 or at + length > len(head)):
        raise PeerError(f"qcow2: the name of its backing image, at {at}, is outside the header")
    backing = head[at : at + length].decode(errors="surrogateescape") if at else None
    # Version 2 has a header of 72 bytes, later ones contain its length.
    offset = 72 if version == 2 else struct.unpack_from(">I", head, 100)[0]
    found = None
    while offset + 8 <= len(head):
        kind, size_of = struct.unpack_from(">II", head, offset)
        if kind == _END:
            break
        if kind == _DATA_FILE:
            raise PeerError("qcow2: its contents are in another file")
        if kind == _BACKING_FORMAT:
            found = head[offset + 8 : offset + 8 + size_of].decode(errors="replace")
        offset += 8 + (size_of + 7 & ~7)
    return Header(size, backing, found, encrypted == _LUKS)
