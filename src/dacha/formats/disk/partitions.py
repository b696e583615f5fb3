"""The partitions of a disk, and the file system that each begins with.

Sources: UEFI 2.10 section 5.3 (GPT), the usual MBR with its chain of logical partitions; the signatures of file systems
as in the Linux kernel's documentation.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

from dacha.core.named import NamedTuple

SECTOR = 512
# As much of a partition as the signatures below need (bytes).
HEAD = 68 << 10
# More partitions than any installer creates are not read: a chain of logical ones may be a loop.
MOST = 128
_EXTENDED = (0x05, 0x0F, 0x85)
# Reads so many bytes at an offset of the disk; fewer at its end.
Read = Callable[[int, int], bytes]


class Partition(NamedTuple):
    """Its number from 1 (0: a file system on the whole disk), where it begins and its length (bytes), and what it
    holds: "ext", "xfs", "swap", …, or "" if that is not known."""

    number: int
    start: int
    size: int
    holds: str


def partitions(read: Read, size: int) -> list[Partition]:
    """The partitions of a disk of `size` bytes, in the order of its table; those that do not fit on it are omitted."""
    head = read(0, 34 * SECTOR).ljust(34 * SECTOR, b"\0")
    found = list(_gpt(read, head) if head[512:520] == b"EFI PART" else _mbr(read, head))
    if not found:
        return [Partition(0, 0, size, holds)] if (holds := file_system(read(0, HEAD))) else []
    inside = [(n, start, length) for n, start, length in found if start > 0 and 0 < length <= size - start]
    return [Partition(n, start, length, file_system(read(start, HEAD))) for n, start, length in inside[:MOST]]


def _gpt(read: Read, head: bytes) -> Iterator[tuple[int, int, int]]:
    (at,) = struct.unpack_from("<Q", head, 512 + 72)
    count, each = struct.unpack_from("<II", head, 512 + 80)
    if not 128 <= each <= 4096:
        return
    table = read(at * SECTOR, min(count, MOST) * each)
    for n in range(len(table) // each):
        entry = table[n * each : n * each + 48]
        first, last = struct.unpack_from("<QQ", entry, 32)
        if any(entry[:16]) and last >= first:
            yield n + 1, first * SECTOR, (last - first + 1) * SECTOR


def _mbr(read: Read, head: bytes) -> Iterator[tuple[int, int, int]]:
    if head[510:512] != b"\x55\xaa":
        return
    for n in range(4):
        kind, first, count = _entry(head, n)
        if kind in _EXTENDED:
            yield from _logical(read, first)
        elif kind and count:
            yield n + 1, first * SECTOR, count * SECTOR


def _logical(read: Read, extended: int) -> Iterator[tuple[int, int, int]]:
    """Each logical partition is described by a sector of its own, which leads to the next one."""
    at = extended
    for number in range(5, 5 + MOST):
        sector = read(at * SECTOR, SECTOR)
        if sector[510:512] != b"\x55\xaa":
            return
        kind, first, count = _entry(sector, 0)
        if kind and count:
            yield number, (at + first) * SECTOR, count * SECTOR
        kind, following, _ = _entry(sector, 1)
        if kind not in _EXTENDED or not following:
            return
        at = extended + following


def _entry(sector: bytes, n: int) -> tuple[int, int, int]:
    """The type of an entry, its first sector and its number of sectors."""
    at = 446 + 16 * n
    first, count = struct.unpack_from("<II", sector, at + 8)
    return sector[at + 4], first, count


def file_system(head: bytes) -> str:
    """What begins with these `HEAD` bytes; "" if it is not known."""
    head = head.ljust(HEAD, b"\0")
    if head[1080:1082] == b"\x53\xef":
        return "ext"
    for at, signature, name in _SIGNATURES:
        if head[at : at + len(signature)] == signature:
            return name
    return ""


_SIGNATURES = (
    (0, b"XFSB", "xfs"),
    (0x10040, b"_BHRfS_M", "btrfs"),
    (0, b"LUKS\xba\xbe", "luks"),
    (512, b"LABELONE", "lvm"),
    (4086, b"SWAPSPACE2", "swap"),
    (3, b"NTFS    ", "ntfs"),
    (3, b"-FVE-FS-", "bitlocker"),
    (82, b"FAT32   ", "fat"),
    (54, b"FAT1", "fat"),
    (1372, b"\x19\x01\x54\x19", "ufs"),
)


class ExtNames(NamedTuple):
    """The names of an ext2, ext3 or ext4 file system: its UUID and its label, as in fstab(5)."""

    uuid: str
    label: str


def ext_names(head: bytes) -> ExtNames:
    """The names in the superblock, at byte 1024 (ext4 documentation: "Super Block")."""
    raw = head[1024 + 0x68 :][:16].ljust(16, b"\0").hex()
    label = head[1024 + 0x78 :][:16].partition(b"\0")[0].decode(errors="replace")
    return ExtNames(f"{raw[:8]}-{raw[8:12]}-{raw[12:16]}-{raw[16:20]}-{raw[20:]}", label)
