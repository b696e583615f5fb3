"""A Samba server for one connection of one guest: it sees only the guest's folders, and runs as their owner.

It runs as a script (`python smb_server.py WORDS`), with the guest's connection as its standard input. WORDS is JSON:
`server` is the program, `settings` the folder of its settings, `folders` are each [name, path, DEVICE:NUMBER, rw or
ro], `uid` and `gid` of their owner, `number` the owner's ID for the server. It has a file system of its own (the
system's programs, read-only), no network except the connection, no visible processes, and no privileges (namespaces(7),
pivot_root(2)).
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import signal
import socket
import struct
import sys
from pathlib import Path
from typing import Any

if __name__ == "__main__":
    # As a script, it finds only Python's own packages.
    sys.path.append(str(Path(__file__).parents[3]))

from dacha.hypervisor.beside import namespaces as ns

_DETACH, _NO_NEW_POWERS, _DIES_WITH_PARENT = 2, 38, 1
_PIVOT_ROOT = {"x86_64": 155, "aarch64": 41}
# The folder where the new file system is assembled: it exists on every host, and is hidden in this namespace only.
_ROOT = "/mnt"
# What the server needs from the system, if it exists.
_SYSTEM = ("/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64")
_SETTINGS = ("/etc/ld.so.cache", "/etc/nsswitch.conf", "/etc/localtime")
_DEVICES = ("/dev/null", "/dev/zero", "/dev/urandom", "/dev/random")
_PLAIN = ns.NO_SETUID | ns.NO_DEVICES


def _show(source: str, inside: str, flags: int) -> None:
    """Bind-mount a file or folder into the new file system."""
    target = Path(_ROOT + inside)
    if Path(source).is_dir():
        target.mkdir(parents=True, exist_ok=True)
    else:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.touch()
    ns.show(source, str(target), flags)


def build(told: dict[str, Any]) -> None:
    """Create a file system with the system's programs, the server's own files and the folders, and enter it."""
    ns.mount("none", "/", None, ns.RECURSIVE | ns.PRIVATE)
    ns.mount("tmpfs", _ROOT, "tmpfs", _PLAIN, "size=1m,mode=755")
    for name in _SYSTEM:
        if Path(name).is_symlink():
            Path(_ROOT + name).symlink_to(Path(name).readlink())
        elif Path(name).is_dir():
            _show(name, name, ns.READ_ONLY | _PLAIN)
    for name in _SETTINGS:
        if Path(name).exists():
            _show(name, name, ns.READ_ONLY | _PLAIN | ns.NO_PROGRAMS)
    for name in _DEVICES:
        _show(name, name, ns.NO_SETUID | ns.NO_PROGRAMS)
    settings, own = Path(_ROOT + "/settings"), Path(_ROOT + "/own")
    for place, size in ((settings, "256k"), (own, "64m")):
        place.mkdir()
        ns.mount("tmpfs", str(place), "tmpfs", _PLAIN | ns.NO_PROGRAMS, f"size={size},mode=711")
    # Its state belongs to this connection: a guest that was killed finds nothing of the former one.
    os.chown(own, told["uid"], told["gid"])
    # By their names: files with which another connection replaces them are beside them.
    for name in ("smb.conf", "smbpasswd", "passwd", "group"):
        # The user databases are the system's; the rest is the server's own.
        place = Path(f"{_ROOT}/etc") if name in ("passwd", "group") else settings
        (place / name).write_bytes((Path(told["settings"]) / name).read_bytes())
        (place / name).chmod(0o644 if place.name == "etc" else 0o600)
        os.chown(place / name, told["uid"], told["gid"])
    for name, path, which, may in told["folders"]:
        _show(path, f"/shares/{name}", _PLAIN | (0 if may == "rw" else ns.READ_ONLY))
        ns.same(f"{_ROOT}/shares/{name}", which, path)
    for name in ("/proc", "/tmp", "/var/log/samba", "/run"):
        Path(_ROOT + name).mkdir(parents=True)
    # Its own processes; if parts of this host's /proc are hidden, the kernel refuses this mount, and it works without.
    with contextlib.suppress(OSError):
        ns.mount("proc", f"{_ROOT}/proc", "proc", _PLAIN | ns.NO_PROGRAMS)
    os.chdir(_ROOT)
    ns.done(ns.libc.syscall(_PIVOT_ROOT[os.uname().machine], b".", b"."), "pivot_root")
    ns.done(ns.libc.umount2(b".", _DETACH), "umount2")
    os.chdir("/")


def loopback_up() -> None:
    """The server requires one link (SIOCSIFFLAGS of netdevice(7); IFF_UP)."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        fcntl.ioctl(s, 0x8914, struct.pack("16sh", b"lo", 1) + bytes(14))


def serve(told: dict[str, Any]) -> None:
    """Become the server; this is the first process of its namespace."""
    ns.libc.prctl(_DIES_WITH_PARENT, signal.SIGKILL, 0, 0, 0)
    build(told)
    ns.mount("none", "/", None, ns.BIND | ns.REMOUNT | ns.READ_ONLY | _PLAIN)
    ns.become_owner(told["uid"], told["gid"])
    ns.unshare(ns.NEW_USERS)
    ns.map_owner(told["uid"], told["gid"], told["number"], told["number"])
    ns.done(ns.libc.prctl(_NO_NEW_POWERS, 1, 0, 0, 0), "prctl")
    # With a connection as its standard input, it serves that one and exits (smbd(8), inetd). Interactive mode makes it
    # do the work of its helper processes itself: a client that is faster than their start would get an out-of-memory
    # error.
    words = [told["server"], "--interactive", "--no-process-group", "-l", "/own", "-s", "/settings/smb.conf"]
    os.execve(told["server"], words, {"PATH": "/usr/sbin"})


def main(words: list[str]) -> int:
    told = json.loads(words[0])
    ns.own_view(ns.NEW_NETWORK | ns.NEW_IPC | ns.NEW_PROCESSES)
    loopback_up()
    child = os.fork()
    if not child:
        serve(told)
    # The connection belongs to the server only, and ends with it.
    os.dup2(os.open("/dev/null", os.O_RDONLY), 0)
    signal.signal(signal.SIGTERM, lambda *_: os.kill(child, signal.SIGKILL))
    return max(0, os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
