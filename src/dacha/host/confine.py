"""Run a helper program with few rights: another user, one capability, some files, and limits.

Files are limited by Landlock (landlock(7)): the program can read what is listed and its own libraries, write where it
is told to, and open no connection. On a kernel without Landlock the other limits remain; `dacha host` reports that.
"""

from __future__ import annotations

import ctypes
import os
import resource
import signal
import struct
import subprocess
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from dacha.core.named import NamedTuple
from dacha.host import cgroup
from dacha.host.accounts import Account

# linux/landlock.h and the system call numbers, equal on every architecture (asm-generic/unistd.h).
_CREATE, _ADD, _RESTRICT = 444, 445, 446
_VERSION, _PATH_BENEATH, _NET_PORT = 1, 1, 2
_READ_FILE, _READ_DIR, _EXECUTE, _WRITE, _TRUNCATE = 1 << 2, 1 << 3, 1 << 0, 1 << 1, 1 << 14
_REMOVE_FILE, _MAKE_FILE, _IOCTL = 1 << 5, 1 << 8, 1 << 15
# All file access rights of each version of the interface, so that everything not granted is denied.
_RIGHTS = {1: (1 << 13) - 1, 2: (1 << 14) - 1, 3: (1 << 15) - 1, 5: (1 << 16) - 1}
_OF_FILES = _READ_FILE | _EXECUTE | _WRITE | _TRUNCATE | _IOCTL
# What every program needs in order to start.
_SYSTEM = ("/usr", "/lib", "/lib64", "/bin", "/sbin", "/etc/ld.so.cache", "/dev/null", "/dev/urandom", "/proc/self")
# The system calls of a Python process that reads and answers packets. It cannot execute programs, change its user, or
# create files.
CALLS = """
accept4 access bind brk clock_gettime clock_nanosleep close connect dup epoll_create1 epoll_ctl epoll_pwait epoll_wait
eventfd2 exit exit_group faccessat faccessat2 fcntl fstat futex getcwd getdents64 getegid geteuid getgid getpeername
getpid getrandom getsockname getsockopt gettid getuid ioctl listen lseek lstat madvise mmap mprotect mremap munmap
nanosleep newfstatat open openat pipe2 poll ppoll pread64 prlimit64 pselect6 read readlink readlinkat readv recvfrom
recvmsg restart_syscall rseq rt_sigaction rt_sigprocmask rt_sigreturn sched_getaffinity sched_yield select sendmsg
sendto set_robust_list setsockopt shutdown sigaltstack socket socketpair stat statx sysinfo tgkill uname write writev
"""
# The same for a process that uses existing connections and opens none.
CALLS_WITHOUT_CONNECTIONS = " ".join(
    sorted(set(CALLS.split()) - {"accept4", "bind", "connect", "listen", "socket", "socketpair"})
)
# The same for one that relays bytes between descriptors: no new connections, no addresses of its own choice.
RELAY_CALLS = " ".join(sorted(set(CALLS_WITHOUT_CONNECTIONS.split()) - {"sendmsg", "setsockopt", "shutdown"}))
# linux/seccomp.h through libseccomp: allow, or fail with EPERM.
_ALLOW, _FAIL = 0x7FFF0000, 0x00050001
_EQUAL = 4  # seccomp.h: SCMP_CMP_EQ
# prctl(2).
_END_WITH_PARENT, _SET_NAME, _NO_NEW_PRIVILEGES, _DROP_FROM_BOUNDING = 1, 15, 38, 24
# Limits that only a compromised helper reaches: 2 GiB of memory, an hour of CPU time, 256 files.
MEMORY, SECONDS, FILES = 2 << 30, 3600, 256
# What a process without other rights may still write: error messages.
WORDS = 64 << 10

_libc = ctypes.CDLL(None, use_errno=True)


class Protection(NamedTuple):
    """A protection that a host may have, and the consequence if it has not."""

    name: str
    there: bool
    without: str


def here() -> list[Protection]:
    """The protections of this host."""
    return [
        Protection(
            "landlock", landlock() > 0, "programs that read images are limited by checks only, not by the kernel"
        ),
        Protection(
            "cgroup",
            not cgroup.missing(),
            f"{cgroup.missing()}; a guest has the limits of its process (rlimits) only",
        ),
        Protection(
            "seccomp", seccomp_library() is not None, "the packet worker is not limited to certain system calls"
        ),
    ]


def landlock() -> int:
    """The version of the kernel's Landlock interface; 0 if there is none."""
    return max(0, int(_libc.syscall(_CREATE, None, ctypes.c_size_t(0), ctypes.c_uint(_VERSION))))


def spawn(
    command: list[str],
    account: Account | None,
    *,
    read: Iterable[Path] = (),
    write: Iterable[Path] = (),
    seconds: int = SECONDS,
    largest: int | None = None,
    with_parent: bool = False,
    **options: Any,
) -> subprocess.Popen[Any]:
    """Start a helper that can open only these files (and the contents of these folders), optionally as `account`: it
    then keeps one privilege of root, to open those files regardless of their owner. It is limited to that many
    `seconds` of CPU time, and to `largest` bytes in a file that it writes. `with_parent` kills it when the thread that
    started it ends, however that ends."""
    rules, parent = _ruleset([*map(Path, _SYSTEM), *read], list(write)), os.getpid()

    def begin() -> None:
        # Between fork and exec: nothing here allocates memory or takes a lock.
        resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
        resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
        if largest is not None:
            resource.setrlimit(resource.RLIMIT_FSIZE, (largest, largest))
        resource.setrlimit(resource.RLIMIT_NOFILE, (FILES, FILES))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        _libc.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
        if with_parent:
            end_with_parent()
            if os.getppid() != parent:
                os._exit(125)  # it ended before it was asked to take this process along
        if rules >= 0 and _libc.syscall(_RESTRICT, rules, 0):
            os._exit(126)

    try:
        return subprocess.Popen(
            [*_become(account, with_parent), *command], preexec_fn=begin, stdin=subprocess.DEVNULL, cwd="/", **options
        )
    finally:
        if rules >= 0:
            os.close(rules)


def run(
    command: list[str],
    account: Account | None,
    *,
    read: Iterable[Path] = (),
    write: Iterable[Path] = (),
    seconds: int = SECONDS,
    pipes: tuple[int, ...] = (),
    with_parent: bool = False,
) -> tuple[int, str, str]:
    """Run a helper until it exits: exit code, stdout, stderr. It inherits the `pipes`."""
    child = spawn(
        command, account, read=read, write=write, seconds=seconds, with_parent=with_parent,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, errors="replace", pass_fds=pipes,
    )  # fmt: skip
    out, err = child.communicate()
    return child.returncode, out, err


def give_up(user: tuple[int, ...] | None, *, read: Iterable[Path] = (), calls: str = CALLS) -> None:
    """From now on, this process is `user` (and group) without capabilities, and confined. Raises OSError if it cannot
    become that user."""
    if user is not None:
        become(user)
    shut_in(read=read, calls=calls)


def become(user: tuple[int, ...]) -> None:
    """From now on, this process is `user` (and group), without capabilities or a way to get any. Raises OSError."""
    for capability in range(64):
        _libc.prctl(_DROP_FROM_BOUNDING, capability, 0, 0, 0)
    os.setgroups([])
    os.setresgid(user[1], user[1], user[1])
    os.setresuid(user[0], user[0], user[0])
    _libc.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)


def shut_in(
    *, read: Iterable[Path] = (), connect: Iterable[int] | None = (), calls: str = CALLS, addressless: bool = False
) -> None:
    """From now on, this process can open only these files and the system's, for reading, connect by TCP only to these
    ports (None: to any), and make only the system `calls`. With `addressless`, it can send only to the peer that a
    socket is connected to. Limits that the kernel or libseccomp lack are omitted: `dacha host` reports that."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_FSIZE, (WORDS, WORDS))
    _libc.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
    rules = _ruleset([*map(Path, _SYSTEM), *read], [], connect)
    if rules >= 0:
        _libc.syscall(_RESTRICT, rules, 0)
        os.close(rules)
    _limit_calls(calls, addressless=addressless)


def end_with_parent() -> None:
    """Terminate this process when its parent exits (prctl(2), PR_SET_PDEATHSIG)."""
    _libc.prctl(_END_WITH_PARENT, signal.SIGKILL, 0, 0, 0)


def set_name(name: str) -> None:
    """Set the name that ps(1) shows for this process, up to 15 bytes (prctl(2), PR_SET_NAME)."""
    _libc.prctl(_SET_NAME, name.encode(), 0, 0, 0)


def seccomp_library() -> Any | None:
    """libseccomp(3), which knows the numbers of system calls; None if it is not installed."""
    try:
        return ctypes.CDLL("libseccomp.so.2")
    except OSError:
        return None


class Comparison(ctypes.Structure):
    """struct scmp_arg_cmp of seccomp.h: the index of an argument, the comparison, and the value."""

    _fields_ = (("arg", ctypes.c_uint), ("op", ctypes.c_int), ("a", ctypes.c_uint64), ("b", ctypes.c_uint64))


def _limit_calls(calls: str, *, addressless: bool = False) -> None:
    """Allow only these system calls; every other one fails with EPERM (seccomp(2)). With `addressless`, sendto(2) is
    allowed only without an address: its sixth argument, the length of the address, must be 0."""
    library = seccomp_library()
    if library is None:
        return
    library.seccomp_init.restype = ctypes.c_void_p
    filter_ = ctypes.c_void_p(library.seccomp_init(ctypes.c_uint32(_FAIL)))
    for name in calls.split():
        number = library.seccomp_syscall_resolve_name(name.encode())
        if number < 0:
            continue
        compared = (Comparison(5, _EQUAL, 0, 0),) if addressless and name == "sendto" else ()
        library.seccomp_rule_add_array(
            filter_, ctypes.c_uint32(_ALLOW), ctypes.c_int(number), ctypes.c_uint(len(compared)),
            (Comparison * len(compared))(*compared),
        )  # fmt: skip
    library.seccomp_load(filter_)
    library.seccomp_release(filter_)


def _ruleset(read: list[Path], write: list[Path], connect: Iterable[int] | None = ()) -> int:
    """A descriptor of the rules, closed on exec; -1 without Landlock."""
    version = landlock()
    if not version:
        return -1
    handled = _RIGHTS[max(v for v in _RIGHTS if v <= version)]
    # From version 4 on, no port can be bound or connected; from 6 on, no abstract socket and no outside process can be
    # reached.
    attributes = struct.pack(
        "=QQQ", handled, 3 if version >= 4 and connect is not None else 0, 3 if version >= 6 else 0
    )
    size = 24 if version >= 6 else 16 if version >= 4 else 8
    rules = int(_libc.syscall(_CREATE, attributes, ctypes.c_size_t(size), 0))
    if rules < 0:
        return -1
    for paths, wanted in (
        (read, _READ_FILE | _READ_DIR | _EXECUTE),
        (write, _READ_FILE | _READ_DIR | _WRITE | _TRUNCATE | _REMOVE_FILE | _MAKE_FILE),
    ):
        for path in paths:
            try:
                fd = os.open(path, os.O_PATH | os.O_CLOEXEC)
            except OSError:
                continue  # A folder that this system does not have; a missing file is reported by its user.
            try:
                rights = wanted & handled & (-1 if path.is_dir() else _OF_FILES)
                _libc.syscall(_ADD, rules, _PATH_BENEATH, struct.pack("=Qi", rights, fd), 0)
            finally:
                os.close(fd)
    for port in connect if connect and version >= 4 else ():
        _libc.syscall(_ADD, rules, _NET_PORT, struct.pack("=QQ", 2, port), 0)
    return rules


def _become(account: Account | None, with_parent: bool = False) -> list[str]:
    if account is None:
        return []
    capabilities = "-all,+dac_override"
    # A new user clears the signal that was asked for before (prctl(2), PR_SET_PDEATHSIG).
    ends = ["--pdeathsig", "KILL"] if with_parent else []
    return [
        "setpriv", f"--reuid={account.uid}", f"--regid={account.gid}", "--clear-groups",
        f"--inh-caps={capabilities}", f"--ambient-caps={capabilities}", f"--bounding-set={capabilities}", *ends, "--",
    ]  # fmt: skip
