"""Copy files, and parts of files, with their holes."""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
from collections.abc import Callable, Iterator
from pathlib import Path

from dacha.host.files import refused

_CHUNK = 8 << 20
# linux/fs.h: _IOW(0x94, 9, int)
_FICLONE = 0x40049409
# linux/falloc.h: free a range of a file, whose length stays.
_KEEP_SIZE, _PUNCH_HOLE = 1, 2


def cloned(source: Path, target: Path) -> bool:
    """Copy a file by sharing its blocks (ioctl_ficlone(2)): in a moment, whatever its size. False if the file system
    cannot do that; then there is no target."""
    try:
        with source.open("rb") as f, target.open("xb") as out:
            fcntl.ioctl(out.fileno(), _FICLONE, f.fileno())
    except OSError:
        target.unlink(missing_ok=True)
        return False
    return True


def sparse_copy(source: Path, target: int, progress: Callable[[float], None]) -> None:
    """Copy a file into an open, empty one, with its time of modification; holes stay holes. `progress` is called with
    the finished share. Raises HostError."""
    try:
        with source.open("rb") as f:
            size = os.fstat(f.fileno()).st_size
            os.ftruncate(target, size)
            for at, data in _contents(f.fileno(), 0, size):
                _write(target, at, data)
                progress((at + len(data)) / size)
            os.fsync(target)
            seen = os.fstat(f.fileno())
        os.utime(target, ns=(seen.st_atime_ns, seen.st_mtime_ns))
    except OSError as e:
        raise refused(source, e, "copy") from e
    progress(1.0)


def copy_part(source: int, start: int, target: int, at: int, length: int) -> None:
    """Copy a part of an open file to a part of another one that has no data yet. Raises OSError."""
    for found, data in _contents(source, start, start + length):
        _write(target, at + found - start, data)


def free_part(fd: int, start: int, length: int) -> None:
    """Let a part of an open file read as zeros, and take no space if its file system can do that. Raises OSError."""
    libc = ctypes.CDLL(None, use_errno=True)
    mode = _PUNCH_HOLE | _KEEP_SIZE
    if libc.fallocate(fd, mode, ctypes.c_long(start), ctypes.c_long(length)) == 0:
        return
    if ctypes.get_errno() not in (errno.EOPNOTSUPP, errno.ENOSYS):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    for at, data in _contents(fd, start, start + length):
        _write(fd, at, bytes(len(data)))


def _contents(fd: int, start: int, end: int) -> Iterator[tuple[int, bytes]]:
    """What a part of a file has, without its holes: pieces, each with its place in the file."""
    at = start
    while at < end:
        try:
            at = os.lseek(fd, at, os.SEEK_DATA)
        except OSError as e:
            if e.errno == errno.ENXIO:
                return  # no data up to the end
            raise
        stop = min(end, os.lseek(fd, at, os.SEEK_HOLE))
        while at < stop:
            data = os.pread(fd, min(_CHUNK, stop - at), at)
            if not data:
                return
            yield at, data
            at += len(data)


def _write(fd: int, at: int, data: bytes) -> None:
    written = 0
    while written < len(data):
        written += os.pwrite(fd, data[written:], at + written)
