"""A folder of this host for a guest: the daemon that serves it (virtio-fs) gets the rights of the folder's owner
only.

It runs as a script (`python share_server.py SOCKET FOLDER DEVICE:NUMBER UID GID GUEST-UID GUEST-GID rw|ro DAEMON`) and
imports only `namespaces`; SOCKET is a listening descriptor, DEVICE:NUMBER identifies the folder that was checked. In a
user namespace, the folder's owner is the guest's user: files that this user creates belong to the owner here, and no
other user exists; in a mount namespace, files in the folder have no special rights (user_namespaces(7),
mount_namespaces(7)).
"""

from __future__ import annotations

import ctypes
import os
import select
import struct
import sys
from pathlib import Path

if __name__ == "__main__":
    # As a script, it finds only Python's own packages.
    sys.path.append(str(Path(__file__).parents[3]))

from dacha.hypervisor.beside import namespaces as ns

# How long a guest's process may take to connect (seconds): otherwise no daemon is left behind.
WAIT_S = 60.0
# The folder's place for the daemon: accessible to every user, visible only to it.
PLACE = "/tmp"
# prctl(2): a seccomp filter, ambient capabilities.
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
    """The folder at PLACE, in a mount namespace: the owner may have no access to its parent folders."""
    ns.mount("none", "/", None, ns.RECURSIVE | ns.PRIVATE)
    ns.show(folder, PLACE, ns.NO_SETUID | ns.NO_DEVICES | (0 if writable else ns.READ_ONLY))
    ns.same(PLACE, which, folder)


def keep_powers() -> None:
    """Let the daemon keep the capabilities of its own namespace, although its user is not root there."""
    header, sets = _Header(_CAPABILITIES, 0), (_Sets * 2)()
    ns.done(ns.libc.capget(ctypes.byref(header), sets), "capget")
    for one in sets:
        one.inheritable = one.permitted
    ns.done(ns.libc.capset(ctypes.byref(header), sets), "capset")
    for number in range(64):
        ns.libc.prctl(_AMBIENT, _RAISE, number, 0, 0)


def keep_groups() -> None:
    """Pretend to the daemon that it has dropped its groups. It insists on that, but an ordinary user cannot: they are
    the owner's own groups. (A seccomp filter returns 0 for setgroups(2).)"""
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
