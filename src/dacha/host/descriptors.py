"""File descriptors of other processes (pidfd_open(2), pidfd_getfd(2))."""

from __future__ import annotations

import ctypes
import os

# The system call number, equal on every architecture (asm-generic/unistd.h).
_PIDFD_GETFD = 438
_libc = ctypes.CDLL(None, use_errno=True)


def of_process(process: int, number: int) -> int:
    """A duplicate of descriptor `number` of another process, which `process` is a pidfd of. Raises OSError."""
    fd = int(_libc.syscall(_PIDFD_GETFD, process, number, 0))
    if fd < 0:
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    return fd
