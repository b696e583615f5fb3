"""The header of a qcow2 image: the size of its disk, and what it lies on (QEMU documentation: interop/qcow2)."""

from __future__ import annotations

import struct
from typing import NamedTuple

from dacha.core.errors import PeerError

MAGIC = b"QFI\xfb"
# The name of what it lies on is in the first cluster, whose size is 64 KiB unless somebody chose another.
HEAD = 65536
_FIXED = struct.Struct(">4sIQIIQ")
_BACKING_FORMAT, _END = 0xE2792ACA, 0


class Header(NamedTuple):
    """`size` in bytes; `backing` is the name of the image below it as it was written, with its format where known."""

    size: int
    backing: str | None
    backing_format: str | None


def decode(head: bytes) -> Header | None:
    """Read an image's first bytes; None for an image in another format. Raises PeerError when they are cut short."""
    if head[:4] != MAGIC:
        return None
    if len(head) < 104:
        raise PeerError(f"a qcow2 header of {len(head)} bytes is cut short")
    _, version, at, length, _, size = _FIXED.unpack_from(head)
    backing = head[at : at + length].decode(errors="surrogateescape") if at else None
    if at and (length > 1023 or at + length > len(head)):
        raise PeerError(f"qcow2: the name of the image below it, at {at}, is not in the header")
    # Version 2 has a header of 72 bytes, later ones say how long theirs is.
    offset = 72 if version == 2 else struct.unpack_from(">I", head, 100)[0]
    found = None
    while offset + 8 <= len(head):
        kind, size_of = struct.unpack_from(">II", head, offset)
        if kind == _END:
            break
        if kind == _BACKING_FORMAT:
            found = head[offset + 8 : offset + 8 + size_of].decode(errors="replace")
        offset += 8 + (size_of + 7 & ~7)
    return Header(size, backing, found)
