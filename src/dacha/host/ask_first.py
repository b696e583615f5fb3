"""Require a process to ask before it connects: each connect(2), and each datagram with an address, waits for the
decision of another process (seccomp_unotify(2), through libseccomp)."""

from __future__ import annotations

import contextlib
import functools
import os
from pathlib import Path

# linux/seccomp.h through seccomp.h: allow, and notify; the comparison "not equal".
_ALLOW, _ASK, _NOT_EQUAL = 0x7FFF0000, 0x7FC00000, 1
# prctl(2): which process may inspect this one if Yama allows only ancestors.
_SET_READER = 0x59616D61
_YAMA = Path("/proc/sys/kernel/yama/ptrace_scope")
# Continuing a call after its inspection requires this version (SECCOMP_USER_NOTIF_FLAG_CONTINUE).
_KERNEL = (5, 5)


def known_missing() -> str:
    """What is known to be missing without a test, in no time."""
    system = os.uname()
    if system.machine not in ("x86_64", "aarch64"):
        return f"it is not supported on {system.machine}"
    release = tuple(int(n) for n in system.release.split("-")[0].split(".")[:2] if n.isdigit())
    if release < _KERNEL:
        return f"the kernel is {system.release}, but 5.5 or later is required"
    try:
        closed = int(_YAMA.read_text()) >= 2
    except (OSError, ValueError):
        closed = False
    return f"{_YAMA} forbids a process to inspect another" if closed else ""


def likely_missing() -> str:
    """Like `missing` in a twentieth of its time, except for kernels that reject such a filter: unusual cases are really
    tested."""
    folders = (f"/usr/lib/{os.uname().machine}-linux-gnu", "/usr/lib64", "/usr/lib")
    there = any(Path(folder, "libseccomp.so.2").exists() for folder in folders)
    return known_missing() or ("" if there else missing())


@functools.cache
def missing() -> str:
    """Why this host does not support it; "" if it does. It is tested in a child process."""
    if why := known_missing():
        return why
    import socket

    from dacha.host.confine import seccomp_library

    library = seccomp_library()
    if library is None or not hasattr(library, "seccomp_notify_fd"):
        return "libseccomp2 is not installed, or older than 2.5"
    mine, its = socket.socketpair()
    with mine, its:
        child = os.fork()
        if not child:
            with contextlib.suppress(BaseException):
                ask(its.fileno(), os.getpid())
                os._exit(0)
            os._exit(1)
        return "" if os.waitpid(child, 0)[1] == 0 else "the kernel does not accept such a filter (seccomp_unotify(2))"


def ask(channel: int, who: int) -> None:
    """From now on, this process and its children ask the process `who`, which receives the descriptor of the
    notifications through `channel`, a Unix socket, and may read their memory. For use between fork and exec. Raises
    OSError if the kernel refuses."""
    import ctypes
    import socket

    from dacha.host.confine import Comparison, seccomp_library

    library = seccomp_library()
    if library is None:
        raise OSError("libseccomp2 is not installed")
    ctypes.CDLL(None).prctl(_SET_READER, ctypes.c_ulong(who), 0, 0, 0)
    library.seccomp_init.restype = ctypes.c_void_p
    filter_ = ctypes.c_void_p(library.seccomp_init(ctypes.c_uint32(_ALLOW)))
    addressed = Comparison(4, _NOT_EQUAL, 0, 0)
    for name, comparisons in ((b"connect", []), (b"sendto", [addressed])):
        number = library.seccomp_syscall_resolve_name(name)
        array = (Comparison * len(comparisons))(*comparisons)
        failed = library.seccomp_rule_add_array(filter_, ctypes.c_uint32(_ASK), number, len(comparisons), array)
        if failed:
            raise OSError(-failed, "libseccomp refuses the rule")
    failed = library.seccomp_load(filter_)
    if failed:
        raise OSError(-failed, "the kernel does not accept such a filter")
    questions = library.seccomp_notify_fd(filter_)
    with socket.socket(fileno=os.dup(channel)) as s:
        socket.send_fds(s, [b"q"], [questions])
    os.close(questions)
    library.seccomp_release(filter_)
