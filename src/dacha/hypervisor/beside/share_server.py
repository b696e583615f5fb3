"""A folder of this host for a guest: the daemon that serves it (virtio-fs) gets the powers of the folder's owner, and
no others.

It is run by itself (`python share_server.py SOCKET FOLDER DEVICE:NUMBER UID GID GUEST-UID GUEST-GID rw|ro DAEMON`) and
imports nothing of Dacha's; SOCKET is a listening descriptor, DEVICE:NUMBER the very folder that was judged. In a user
namespace of its own the folder's owner is the guest's user: what that user makes is the owner's here, and nobody else
is known; in a mount namespace of its own nothing of the folder has powers (user_namespaces(7), mount_namespaces(7)).
"""

from __future__ import annotations

import ctypes
import os
import select
import struct
import sys

# How long a guest's process that was started may take to connect (seconds): one that never does leaves no daemon.
WAIT_S = 60.0
# Where the folder is to the daemon: a place that everybody may reach, seen by it alone.
PLACE = "/tmp"
_NEW_MOUNTS, _NEW_USERS = 0x20000, 0x10000000
_READ_ONLY, _NO_SETUID, _NO_DEVICES, _REMOUNT, _BIND, _RECURSIVE, _PRIVATE = 1, 2, 4, 32, 4096, 16384, 1 << 18
# prctl(2): what may be read of this process, a filter of calls, capabilities that outlive an exec.
_DUMPABLE, _SECCOMP, _FILTER, _AMBIENT, _RAISE = 4, 22, 2, 47, 2
_CAPABILITIES = 0x20080522
_SETGROUPS = {"x86_64": 116, "aarch64": 159}
_libc = ctypes.CDLL(None, use_errno=True)


class _Header(ctypes.Structure):
    _fields_ = (("version", ctypes.c_uint32), ("pid", ctypes.c_int))


class _Sets(ctypes.Structure):
    _fields_ = (("effective", ctypes.c_uint32), ("permitted", ctypes.c_uint32), ("inheritable", ctypes.c_uint32))


class _Program(ctypes.Structure):
    _fields_ = (("length", ctypes.c_ushort), ("filter", ctypes.c_void_p))


def _done(result: int, what: str) -> None:
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, f"{what}: {os.strerror(number)}")


def become_owner(uid: int, gid: int) -> None:
    """Be the folder's owner and nobody else: for a process that is root."""
    os.setgroups([])
    os.setgid(gid)
    os.setuid(uid)
    # Without it the maps that follow would be root's to write.
    _libc.prctl(_DUMPABLE, 1, 0, 0, 0)


def map_owner(uid: int, gid: int, guest_uid: int, guest_gid: int) -> None:
    """In this user namespace the owner is the guest's user, and nobody else is known."""
    for name, text in (("setgroups", "deny"), ("uid_map", f"{guest_uid} {uid} 1"), ("gid_map", f"{guest_gid} {gid} 1")):
        with open(f"/proc/self/{name}", "w") as f:
            f.write(text)


def mount(folder: str, which: str, *, writable: bool) -> None:
    """The folder at PLACE, in a mount namespace of its own: the owner may have no way to where it is. It must still be
    the one that was judged: somebody may have put another, or a link, in its place."""
    place = os.fsencode(PLACE)
    _mount(b"none", b"/", _RECURSIVE | _PRIVATE)
    _mount(os.fsencode(folder), place, _BIND)
    seen = os.lstat(PLACE)
    if which != f"{seen.st_dev}:{seen.st_ino}":
        raise OSError(f"{folder} is another folder than a moment ago")
    flags = _BIND | _REMOUNT | _NO_SETUID | _NO_DEVICES | (0 if writable else _READ_ONLY)
    _mount(b"none", place, flags | _kept(PLACE))


def _kept(folder: str) -> int:
    """What the file system itself is mounted with, which a namespace may not take away."""
    there = os.statvfs(folder).f_flag
    return sum(flag for flag in (1, 2, 4, 8, 1024, 2048) if there & flag)


def _mount(source: bytes, target: bytes, flags: int) -> None:
    _done(_libc.mount(source, target, None, ctypes.c_ulong(flags), None), f"mount {os.fsdecode(target)}")


def keep_powers() -> None:
    """Let the daemon have what this process may in its own namespace, though it is nobody's root there."""
    header, sets = _Header(_CAPABILITIES, 0), (_Sets * 2)()
    _done(_libc.capget(ctypes.byref(header), sets), "capget")
    for one in sets:
        one.inheritable = one.permitted
    _done(_libc.capset(ctypes.byref(header), sets), "capset")
    for number in range(64):
        _libc.prctl(_AMBIENT, _RAISE, number, 0, 0)


def keep_groups() -> None:
    """Let the daemon believe that it has dropped its groups. It insists on that, and an ordinary user may not: they are
    the owner's own. (A filter that answers setgroups(2) with 0.)"""
    number = _SETGROUPS.get(os.uname().machine)
    if number is None or not os.getgroups():
        return
    steps = ((0x20, 0, 0, 0), (0x15, 0, 1, number), (0x06, 0, 0, 0x00050000), (0x06, 0, 0, 0x7FFF0000))
    code = ctypes.create_string_buffer(b"".join(struct.pack("HBBI", *step) for step in steps))
    program = _Program(len(steps), ctypes.cast(code, ctypes.c_void_p))
    _done(_libc.prctl(_SECCOMP, _FILTER, ctypes.byref(program), 0, 0), "seccomp")


def main(words: list[str]) -> None:
    fd, folder, which, daemon = int(words[0]), words[1], words[2], words[8]
    uid, gid, guest_uid, guest_gid = map(int, words[3:7])
    writable = words[7] == "rw"
    if uid != os.geteuid():
        _done(_libc.unshare(_NEW_MOUNTS), "unshare")
        mount(folder, which, writable=writable)
        become_owner(uid, gid)
        _done(_libc.unshare(_NEW_USERS), "unshare")
        map_owner(uid, gid, guest_uid, guest_gid)
    else:
        _done(_libc.unshare(_NEW_USERS | _NEW_MOUNTS), "unshare")
        map_owner(uid, gid, guest_uid, guest_gid)
        mount(folder, which, writable=writable)
    keep_powers()
    keep_groups()
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    if select.select([fd], [], [], WAIT_S)[0]:
        os.execv(daemon, [daemon, f"--fd={fd}", "-o", f"source={PLACE}", "-o", "sandbox=namespace", "-f"])


if __name__ == "__main__":
    main(sys.argv[1:])
