"""A disk image that is there whole, or not at all."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Iterator
from pathlib import Path

# What a file system without hard links answers (link(2)).
_NO_LINKS = (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK)


@contextlib.contextmanager
def whole(path: Path) -> Iterator[Path]:
    """A temporary file that becomes `path` when all went well, and is gone otherwise."""
    temporary = path.with_name(f".{path.name}.{os.urandom(6).hex()}.part")
    try:
        yield temporary
        fd = os.open(temporary, os.O_RDONLY | os.O_NOFOLLOW)
        try:
            # The tool may have made it as another user.
            os.fchown(fd, os.geteuid(), os.getegid())
            os.fchmod(fd, 0o600)
            os.fsync(fd)
        finally:
            os.close(fd)
        # A link, not a rename: should two commands meet here after all, the first one's disk stays.
        with contextlib.suppress(FileExistsError):
            try:
                os.link(temporary, path)
            except OSError as e:
                if e.errno not in _NO_LINKS:
                    raise
                # This file system has no hard links (exFAT, sshfs); the lab's lock keeps others away meanwhile.
                if not path.exists():
                    temporary.rename(path)
    finally:
        with contextlib.suppress(OSError):
            temporary.unlink()
