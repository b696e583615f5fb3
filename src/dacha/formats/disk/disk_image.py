"""What a disk image is and which other files it refers to, from its own bytes only.

Programs that open images follow these references: to a backing image, to a data file, to extents. An image from
somebody else may refer to any file of this host, so Dacha checks the references first, allows known ones, and tells
QEMU every format: no format is guessed from contents that a guest can write.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.formats.disk import qcow2

# Reads that many bytes at an offset of the image; fewer at its end.
Read = Callable[[int, int], bytes]
# The embedded text of a VMDK has one or two sectors; a longer one is not read.
_TEXT_MOST = 1 << 20


class DiskImage(NamedTuple):
    """An image: its format, the name of its backing image as written, with its format if known, and whether it is
    encrypted."""

    format: str
    backing: str | None = None
    backing_format: str | None = None
    encrypted: bool = False


def judge(read: Read, size: int) -> DiskImage:
    """Examine an image of `size` bytes. Raises PeerError if it is damaged, or refers to files that are not allowed.
    Sources: QEMU documentation, interop/qcow2; VMDK as QEMU reads it (Virtual Disk Format 1.1: sparse header); VDI and
    VHDX by their signatures; VHD by the footer's cookie."""
    head = read(0, qcow2.HEAD)
    if head[:4] == qcow2.MAGIC:
        header = qcow2.decode(head)
        assert header is not None
        return DiskImage("qcow2", header.backing, header.backing_format, header.encrypted)
    if head[:4] == b"KDMV":
        _judge_sparse(head, read)
        return DiskImage("vmdk")
    if head[:4] == b"COWD":
        raise PeerError("it is a VMDK of an old kind, split into several files")
    if _is_descriptor(head):
        raise PeerError("it is a VMDK descriptor: the contents are in other files")
    if head[:8] == b"vhdxfile":
        return DiskImage("vhdx")
    if head[64:68] == b"\x7f\x10\xda\xbe":
        return DiskImage("vdi")
    if head[:8] == b"conectix" or (size > 512 and read(size - 512, 8) == b"conectix"):
        return DiskImage("vpc")
    return DiskImage("raw")


def _is_descriptor(head: bytes) -> bool:
    """True for the text form, which may begin with comments and empty lines (as QEMU detects it)."""
    for line in head[:4096].split(b"\n"):
        text = line.strip().lower()
        if text and not text.startswith(b"#"):
            return text.startswith((b"version=", b"createtype"))
        if text.startswith(b"# disk descriptorfile"):
            return True
    return False


def _judge_sparse(head: bytes, read: Read) -> None:
    """A VMDK in one file: its text must not refer to another."""
    if len(head) < 512:
        raise PeerError("VMDK: truncated header")
    capacity = int.from_bytes(head[12:20], "little")
    at, length = (int.from_bytes(head[n : n + 8], "little") * 512 for n in (28, 36))
    if capacity == 0:
        raise PeerError("it is a VMDK descriptor: the contents are in other files")
    if length > _TEXT_MOST:
        raise PeerError(f"VMDK: invalid descriptor length: {length} bytes")
    # At the header's offset, and at the fixed offset that QEMU reads.
    places = {(at, length), (512, 20 * 512)} if at else {(512, 20 * 512)}
    text = "\n".join(read(*p).partition(b"\0")[0].decode(errors="replace") for p in sorted(places))
    kind = re.search(r'^\s*createType\s*=\s*"([^"]*)"', text, re.M | re.I)
    if kind and kind[1] not in ("monolithicSparse", "streamOptimized"):
        raise PeerError(f"it is a VMDK in several files ({kind[1][:40]})")
    parents = re.findall(r"parentCID\s*=\s*([0-9a-fA-F]+)", text, re.I)
    if re.search(r"parentFileNameHint", text, re.I) or any(int(p, 16) != 0xFFFFFFFF for p in parents):
        raise PeerError("it depends on another image")
