"""A folder of this host for a guest: the daemon that serves it (virtio-fs) gets the powers of the folder's owner, and
no others.

It is run by itself (`python share_server.py SOCKET FOLDER DEVICE:NUMBER UID GID GUEST-UID GUEST-GID rw|ro DAEMON`) and
imports `namespaces` alone; SOCKET is a listening descriptor, DEVICE:NUMBER the very folder that was judged. In a user
namespace of its own the folder's owner is the guest's user: what that user makes is the owner's here, and nobody else
is known; in a mount namespace of its own nothing of the folder has powers (user_namespaces(7), mount_namespaces(7)).
"""

from __future__ import annotations

import ctypes
import os
import select
import struct
import sys
from pathlib import Path

if __name__ == "__main__":
    # By itself it finds no packages but Python's.
    sys.path.append(str(Path(__file__).parents[3]))

from dacha.hypervisor.beside import namespaces as ns

# How long a guest's process that was started may take to connect (seconds): one that never does leaves no daemon.
WAIT_S = 60.0
# Where the folder is to the daemon: a place that everybody may reach, seen by it alone.
PLACE = "/tmp"
# prctl(2): a filter of calls, capabilities that outlive an exec.
_SECCOMP, _FILTER, _AMBIENT, _RAISE = 22, 2, 47, 2
_CAPABILITIES = 0x20080522
_SETGROUPS = {"x86_64": 116, "aarch64": 159}


class _Header(ctypes.Structure):
    _fields_ = (("version", ctypes.c_uint32), ("pid", ctypes.c_int))


class _Sets(ctypes.Structure):
    _fields_ = (("effective", ctypes.c_uint32), ("permitted", ctypes.c_uint32), ("inheritable", ctypes.c_uint32))


class _Program(ctypes.Structure):
    _fields_ = (("length", ctypes.c_ushort), ("filter", ctypes.c_void_p))


def mount(folder: str, which: str, *, writable: bool) -> None:
    """The folder at PLACE, in a mount namespace of its own: the owner may have no way to where it is."""
    ns.mount("none", "/", None, ns.RECURSIVE | ns.PRIVATE)
    ns.show(folder, PLACE, ns.NO_SETUID | ns.NO_DEVICES | (0 if writable else ns.READ_ONLY))
    ns.same(PLACE, which, folder)


def keep_powers() -> None:
    """Let the daemon have what this process may in its own namespace, though it is nobody's root there."""
    header, sets = _Header(_CAPABILITIES, 0), (_Sets * 2)()
    ns.done(ns.libc.capget(ctypes.byref(header), sets), "capget")
    for one in sets:
        one.inheritable = one.permitted
    ns.done(ns.libc.capset(ctypes.byref(header), sets), "capset")
    for number in range(64):
        ns.libc.prctl(_AMBIENT, _RAISE, number, 0, 0)


def keep_groups() -> None:
    """Let the daemon believe that it has dropped its groups. It insists on that, and an ordinary user may not: they are
    the owner's own. (A filter that answers setgroups(2) with 0.)"""
    number = _SETGROUPS.get(os.uname().machine)
    if number is None or not os.getgroups():
        return
    steps = ((0x20, 0, 0, 0), (0x15, 0, 1, number), (0x06, 0, 0, 0x00050000), (0x06, 0, 0, 0x7FFF0000))
    code = ctypes.create_string_buffer(b"".join(struct.pack("HBBI", *step) for step in steps))
    program = _Program(len(steps), ctypes.cast(code, ctypes.c_void_p))
    ns.done(ns.libc.prctl(_SECCOMP, _FILTER, ctypes.byref(program), 0, 0), "seccomp")


def main(words: list[str]) -> None:
    fd, folder, which, daemon = int(words[0]), words[1], words[2], words[8]
    uid, gid, guest_uid, guest_gid = map(int, words[3:7])
    writable = words[7] == "rw"
    if uid != os.geteuid():
        ns.own_view(0)
        mount(folder, which, writable=writable)
        ns.become_owner(uid, gid)
        ns.unshare(ns.NEW_USERS)
        ns.map_owner(uid, gid, guest_uid, guest_gid)
    else:
        ns.unshare(ns.NEW_USERS | ns.NEW_MOUNTS)
        ns.map_owner(uid, gid, guest_uid, guest_gid)
        mount(folder, which, writable=writable)
    keep_powers()
    keep_groups()
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    if select.select([fd], [], [], WAIT_S)[0]:
        os.execv(daemon, [daemon, f"--fd={fd}", "-o", f"source={PLACE}", "-o", "sandbox=namespace", "-f"])


if __name__ == "__main__":
    main(sys.argv[1:])
