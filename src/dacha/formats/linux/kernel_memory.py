"""The memory that a kernel needs before it runs (ELF-64: System V ABI, "Program Header"; Linux
Documentation/arch/x86/boot.rst, "init_size")."""

from __future__ import annotations

import struct

_HEADER, _SEGMENT, _LOAD = struct.Struct("<16sHHIQQQIHHHHHH"), struct.Struct("<IIQQQQQQ"), 1
# Offsets in an x86 boot image: magic number, protocol version, uncompressed size.
_MAGIC_AT, _VERSION_AT, _INIT_SIZE_AT, _INIT_SIZE_SINCE = 0x202, 0x206, 0x260, 0x020A
# The part of a file that is read (bytes).
HEAD = 4096


def kernel_memory(head: bytes) -> int | None:
    """Bytes that a kernel occupies when loaded, from the first HEAD bytes of its file: an ELF image's segments, or an
    x86 boot image's header field. None for any other file."""
    if head[:4] == b"\x7fELF":
        return _of_elf(head)
    if head[_MAGIC_AT : _MAGIC_AT + 4] == b"HdrS" and len(head) >= _INIT_SIZE_AT + 4:
        version = int(struct.unpack_from("<H", head, _VERSION_AT)[0])
        return int(struct.unpack_from("<I", head, _INIT_SIZE_AT)[0]) if version >= _INIT_SIZE_SINCE else None
    return None


def _of_elf(head: bytes) -> int | None:
    if len(head) < _HEADER.size or head[4] != 2 or head[5] != 1:
        return None
    _, _, _, _, _, at, _, _, _, size, count, _, _, _ = _HEADER.unpack_from(head)
    if size != _SEGMENT.size or at + size * count > len(head):
        return None
    found = [_SEGMENT.unpack_from(head, at + n * size) for n in range(count)]
    return sum(int(segment[6]) for segment in found if segment[0] == _LOAD)
