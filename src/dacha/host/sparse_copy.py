"""Copy a file with its holes and its time of modification."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable
from pathlib import Path

from dacha.host.files import refused

_CHUNK = 8 << 20


def sparse_copy(source: Path, target: int, progress: Callable[[float], None]) -> None:
    """Copy a file into an open, empty one; holes stay holes. `progress` is called with the finished share. Raises
    HostError."""
    try:
        with source.open("rb") as f:
            size = os.fstat(f.fileno()).st_size
            os.ftruncate(target, size)
            at = 0
            while at < size:
                try:
                    at = os.lseek(f.fileno(), at, os.SEEK_DATA)
                except OSError as e:
                    if e.errno == errno.ENXIO:
                        break  # no data up to the end
                    raise
                end = os.lseek(f.fileno(), at, os.SEEK_HOLE)
                while at < end:
                    data = os.pread(f.fileno(), min(_CHUNK, end - at), at)
                    if not data:
                        break
                    written = 0
                    while written < len(data):
                        written += os.pwrite(target, data[written:], at + written)
                    at += len(data)
                    progress(at / size)
            os.fsync(target)
            seen = os.fstat(f.fileno())
        os.utime(target, ns=(seen.st_atime_ns, seen.st_mtime_ns))
    except OSError as e:
        raise refused(source, e, "copy") from e
    progress(1.0)
