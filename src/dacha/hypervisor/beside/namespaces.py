"""Namespaces in which only one guest's folders exist, and whose user is their owner (namespaces(7)).

File servers run as scripts that import only this module of Dacha, which imports only the standard library.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
from pathlib import Path

NEW_MOUNTS, NEW_IPC, NEW_USERS, NEW_PROCESSES, NEW_NETWORK = 0x20000, 0x8000000, 0x10000000, 0x20000000, 0x40000000
READ_ONLY, NO_SETUID, NO_DEVICES, NO_PROGRAMS, REMOUNT, BIND = 1, 2, 4, 8, 32, 4096
RECURSIVE, PRIVATE = 16384, 1 << 18
_DUMPABLE = 4  # prctl(2)
EVERYBODY = "0 0 4294967295"
libc = ctypes.CDLL(None, use_errno=True)


def done(result: int, what: str) -> None:
    """Raises OSError for a failed call of the C library."""
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, f"{what}: {os.strerror(number)}")


def unshare(what: int) -> None:
    done(libc.unshare(what), "unshare")


def own_view(what: int) -> None:
    """Create a mount namespace, and further ones (`what`). A process without the privilege for it (the caretaker's root
    part) creates it in a user namespace that maps every user to itself, and where no capability reaches outside
    (user_namespaces(7))."""
    if libc.unshare(what | NEW_MOUNTS) == 0:
        return
    ready, told = os.pipe(), os.pipe()
    parent = os.getpid()
    child = os.fork()
    if not child:
        # Only an outside process may map more users than itself.
        os.read(ready[0], 1)
        with contextlib.suppress(OSError):
            for name in ("uid_map", "gid_map"):
                Path(f"/proc/{parent}/{name}").write_text(EVERYBODY)
            os.write(told[1], b"x")
        os._exit(0)
    os.close(told[1])
    unshare(NEW_USERS)
    os.write(ready[1], b"x")
    fine = os.read(told[0], 1)
    os.waitpid(child, 0)
    for fd in (*ready, told[0]):
        os.close(fd)
    if not fine:
        raise OSError("this host does not allow user namespaces")
    unshare(what | NEW_MOUNTS)


def mount(source: str, target: str, kind: str | None, flags: int, more: str | None = None) -> None:
    """mount(2). Raises OSError."""
    words = [os.fsencode(x) if x else None for x in (source, target, kind, more)]
    done(libc.mount(words[0], words[1], words[2], ctypes.c_ulong(flags), words[3]), f"mount {target}")


def show(source: str, target: str, flags: int) -> None:
    """Bind-mount a file or folder with these flags and those of its file system: a namespace cannot remove them. Mounts
    inside it are hidden, if that is allowed."""
    try:
        mount(source, target, None, BIND)
    except OSError:
        mount(source, target, None, BIND | RECURSIVE)
    there = os.statvfs(target).f_flag
    kept = sum(flag for flag in (1, 2, 4, 8, 1024, 2048) if there & flag)
    mount("none", target, None, BIND | REMOUNT | flags | kept)


def same(place: str, which: str, folder: str) -> None:
    """Raises OSError if the folder was replaced by another one, or by a link, after it was checked."""
    seen = os.lstat(place)
    if which != f"{seen.st_dev}:{seen.st_ino}":
        raise OSError(f"{folder} was replaced a moment ago")


def become_owner(uid: int, gid: int) -> None:
    """Become the folder's owner: for a process that is root."""
    os.setgroups([])
    os.setgid(gid)
    os.setuid(uid)
    # Without it, the following maps could be written by root only.
    libc.prctl(_DUMPABLE, 1, 0, 0, 0)


def map_owner(uid: int, gid: int, own_uid: int, own_gid: int) -> None:
    """In this user namespace the owner has other IDs, and no other user exists."""
    for name, text in (("setgroups", "deny"), ("uid_map", f"{own_uid} {uid} 1"), ("gid_map", f"{own_gid} {gid} 1")):
        Path(f"/proc/self/{name}").write_text(text)
