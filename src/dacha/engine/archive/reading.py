"""Read an archive: its description, then each block with its checksum, then its end."""

from __future__ import annotations

import tarfile
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from typing import Any, BinaryIO

from dacha.core.archive.manifest import (
    BLOCK,
    DESCRIPTION_MOST,
    FIRST,
    FURTHER,
    LAST,
    Manifest,
    Seal,
    block_of,
    manifest_from,
)
from dacha.core.errors import AnswerNo, PeerError
from dacha.core.named import NamedTuple
from dacha.core.units import show_size

# A compressed block is hardly longer than the block itself.
_PACKED_MOST = BLOCK + (1 << 16)
# Blocks that are unpacked at the same time, besides the one that is read.
AT_ONCE = 2


class Block(NamedTuple):
    """A part of an archive: a block of a disk's image with its place in it (bytes), or a further file by its name."""

    disk: str | None
    at: int
    data: bytes
    file: str = ""


class Archive:
    """An archive that is read once, from its beginning to its end. Raises AnswerNo for one that is not whole."""

    def __init__(self, stream: BinaryIO) -> None:
        self._members, self._seal = _members(stream), Seal()
        name, data = next(self._members, ("", b""))
        if name != FIRST:
            raise AnswerNo("this is not an archive of a guest", why=f"it does not begin with {FIRST}")
        self._seal.add(name, data)
        try:
            self.manifest: Manifest = manifest_from(data)
        except PeerError as e:
            raise AnswerNo(e.what, why=e.why) from e

    def blocks(self, progress: Callable[[float], None] = lambda share: None) -> Iterator[Block]:
        """Every part of the archive, each checked; after the last one the archive is known to be whole."""
        with ThreadPoolExecutor(AT_ONCE) as pool:
            waiting: deque[Future[Block]] = deque()
            for unpack in self._unpacking(progress):
                if len(waiting) >= AT_ONCE:
                    yield waiting.popleft().result()
                waiting.append(pool.submit(unpack))
            while waiting:
                yield waiting.popleft().result()

    def read(self, progress: Callable[[float], None]) -> None:
        """Read the archive to its end; then it is known to be complete."""
        for _ in self.blocks(progress):
            pass

    def _unpacking(self, progress: Callable[[float], None]) -> Iterator[Callable[[], Block]]:
        """Each part, still to be unpacked; the places and the seal are checked."""
        lengths = {d.name: d.length for d in self.manifest.disks}
        total = sum(lengths.values())
        last, done = ("", -1), 0
        for name, data in self._members:
            if name == LAST:
                if data.decode(errors="replace") != self._seal.text():
                    raise AnswerNo("the archive was altered, or parts of it are missing", why="its checksum differs")
                if next(self._members, None) is not None:
                    raise AnswerNo("the archive has parts after its end")
                progress(1.0)
                return
            self._seal.add(name, data)
            if name in FURTHER:
                yield partial(Block, None, 0, data, name)
                continue
            disk, number = block_of(name) or ("", 0)
            at = number * BLOCK
            if disk not in lengths or at >= lengths[disk] or (disk == last[0] and number <= last[1]):
                raise AnswerNo(f"the archive has a part that does not belong to it: {name[:80]!r}")
            size = min(BLOCK, lengths[disk] - at)
            last, done = (disk, number), done + size
            progress(min(1.0, done / total))
            yield partial(_unpacked, name, disk, at, size, data)
        raise AnswerNo("the archive ends before it is complete", remedy="copy it again from where it is whole")


def _unpacked(name: str, disk: str, at: int, size: int, data: bytes) -> Block:
    import zstandard

    try:
        plain = zstandard.ZstdDecompressor().decompress(data, max_output_size=size)
    except zstandard.ZstdError as e:
        raise AnswerNo(f"a block of the archive is damaged: {name}", why=str(e)) from e
    if len(plain) != size:
        raise AnswerNo(f"a block of the archive is damaged: {name}", why=f"it has {len(plain)} bytes")
    return Block(disk, at, plain)


def check(stream: BinaryIO, progress: Callable[[float], None]) -> Manifest:
    """Read an archive to its end, and return its description. Raises AnswerNo if it is not complete."""
    archive = Archive(stream)
    archive.read(progress)
    return archive.manifest


def _members(stream: BinaryIO) -> Iterator[tuple[str, bytes]]:
    """The members of a tar file, each with its contents. Raises AnswerNo."""
    try:
        with tarfile.open(fileobj=stream, mode="r|") as tar:
            for info in tar:
                most = FURTHER.get(info.name, DESCRIPTION_MOST if info.name in (FIRST, LAST) else _PACKED_MOST)
                if not info.isreg() or info.size > most:
                    why = f"it has {show_size(info.size)}" if info.isreg() else "it is not a regular file"
                    raise AnswerNo(f"the archive has a part that is not possible: {info.name[:80]!r}", why=why)
                opened: Any = tar.extractfile(info)
                data = opened.read()
                if len(data) != info.size:
                    raise AnswerNo("the archive ends before it is complete")
                yield info.name, data
                # tarfile keeps a list of all members that were read: an archive may have many.
                tar.members.clear()  # type: ignore[attr-defined]
    except (tarfile.TarError, EOFError, ValueError) as e:
        raise AnswerNo("the archive is damaged, or ends before it is complete", why=str(e)) from e
