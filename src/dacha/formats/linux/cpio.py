"""The "newc" cpio archive that a Linux kernel unpacks as its initial root file system (kernel documentation:
driver-api/early-userspace/buffer-format)."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.named import NamedTuple

DIRECTORY, FILE, LINK, CHARACTER = 0o040000, 0o100000, 0o120000, 0o020000


class Entry(NamedTuple):
    """One member: path without a leading slash, type and permission bits, content (a link's target)."""

    path: str
    mode: int
    content: bytes = b""
    device: tuple[int, int] = (0, 0)


def archive(entries: Iterable[Entry]) -> bytes:
    """The archive, owned by root, with fixed times: equal entries give equal bytes."""
    out = bytearray()
    for inode, entry in enumerate([*entries, Entry("TRAILER!!!", 0)], 1):
        name = entry.path.encode() + b"\0"
        fields = (inode, entry.mode, 0, 0, 1, 0, len(entry.content), 0, 0, *entry.device, len(name), 0)
        out += b"070701" + b"".join(b"%08X" % f for f in fields) + name
        out += bytes(-len(out) % 4)
        out += entry.content
        out += bytes(-len(out) % 4)
    return bytes(out)


def folder(path: str) -> Entry:
    return Entry(path, DIRECTORY | 0o755)


def file(path: str, content: bytes, mode: int = 0o644) -> Entry:
    return Entry(path, FILE | mode, content)


def link(path: str, target: str) -> Entry:
    return Entry(path, LINK | 0o777, target.encode())
