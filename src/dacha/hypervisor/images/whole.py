"""Create a disk image completely, or not at all."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Iterator
from pathlib import Path

# The errors of a file system without hard links (link(2)).
_NO_LINKS = (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK)


@contextlib.contextmanager
def whole(path: Path) -> Iterator[Path]:
    """A temporary file that becomes `path` on success, and is deleted otherwise."""
    temporary = path.with_name(f".{path.name}.{os.urandom(6).hex()}.part")
    try:
        yield temporary
        fd = os.open(temporary, os.O_RDONLY | os.O_NOFOLLOW)
        try:
            # The tool may have created it as another user.
            os.fchown(fd, os.geteuid(), os.getegid())
            os.fchmod(fd, 0o600)
            os.fsync(fd)
        finally:
            os.close(fd)
        # A link, not a rename: if two commands meet here after all, the first one's disk is kept.
        with contextlib.suppress(FileExistsError):
            try:
                os.link(temporary, path)
            except OSError as e:
                if e.errno not in _NO_LINKS:
                    raise
                # This file system has no hard links (exFAT, sshfs); the lab's lock excludes other commands.
                if not path.exists():
                    temporary.rename(path)
    finally:
        with contextlib.suppress(OSError):
            temporary.unlink()
