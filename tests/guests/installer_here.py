"""Debian's own installer as processes of this host, at its speed, instead of an emulated computer's: its first file
system, its programs and its steps, in namespaces of their own. They have the powers to set up their network and none
over this host: no modules, no mounts, no clock."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

POWERS = ("chown", "dac_override", "fowner", "fsetid", "net_admin", "net_raw", "setuid", "setgid", "kill", "sys_chroot")
# What the kernel and its first program (/init) leave behind for the first script; sysfs says what adapters there are.
BEGIN = """
set -e
cd "$1"
mount -t proc proc proc
mount --bind etc/said-cmdline proc/cmdline
mount --bind etc/said-meminfo proc/meminfo
mount -t sysfs -o ro sys sys
mount -t tmpfs run run
mount -t tmpfs -o mode=755 dev dev
for name in null zero urandom random full; do : > dev/$name; mount --bind /dev/$name dev/$name; done
ln -s /proc/self/fd dev/fd
for number in 0 1 2; do ln -s fd/$number dev/std$number; done
ln -s null dev/tty4
mkdir -p run/lock
# What a kernel has before anybody has given it a name.
echo '(none)' > proc/sys/kernel/hostname
"""


def unpack(initrd: bytes, folder: Path) -> None:
    """Unpack a first file system as a kernel does: archives one after another, compressed by gzip or not, later files
    in the place of earlier ones (kernel documentation: driver-api/early-userspace/buffer-format)."""
    folder.mkdir()
    while initrd := initrd.lstrip(b"\0"):
        if initrd.startswith(b"\x1f\x8b"):
            packed = zlib.decompressobj(wbits=31)
            member, initrd = packed.decompress(initrd), packed.unused_data
        else:
            member, initrd = initrd, initrd[_end(initrd) :]
        subprocess.run(["cpio", "-idu", "--quiet"], cwd=folder, input=member, check=True)


def _end(archive: bytes) -> int:
    """Where a "newc" archive ends: after its trailer."""
    at, name = 0, b""
    while name != b"TRAILER!!!\0":
        assert archive[at : at + 6] == b"070701"
        size, name_size = (int(archive[at + n : at + n + 8], 16) for n in (54, 94))
        name = archive[at + 110 : at + 110 + name_size]
        at += -(-(110 + name_size) // 4) * 4 + -(-size // 4) * 4
    return at


class Network:
    """The installer's network: its adapter and, at the other end, this host with the network's own address."""

    def __init__(self, gateway: str) -> None:
        self.inside, self.outside = (f"dt{os.getpid()}-installer-{end}" for end in ("in", "out"))
        for name in (self.inside, self.outside):
            self._ip("netns", "add", name)
            self._ip("-n", name, "link", "set", "lo", "up")
        self._ip(
            "link", "add", "enp0s9", "netns", self.inside, "type", "veth", "peer", "name", "pier", "netns", self.outside
        )
        self._ip("-n", self.outside, "address", "add", gateway, "dev", "pier")
        self._ip("-n", self.outside, "link", "set", "pier", "up")

    def _ip(self, *words: str) -> str:
        return subprocess.run(["ip", *words], check=True, capture_output=True, text=True).stdout

    def said(self) -> str:
        """The adapter's addresses and the ways from here, as ip(8) says them."""
        return self._ip("-n", self.inside, "address", "show", "dev", "enp0s9") + self._ip("-n", self.inside, "route")

    def close(self) -> None:
        for name in (self.inside, self.outside):
            subprocess.run(["ip", "netns", "delete", name], check=False, capture_output=True)


@contextmanager
def installer(root: Path, network: Network, line: str, memory_kib: int) -> Iterator[subprocess.Popen[bytes]]:
    """The installer in `root`, begun as on a computer of so much memory whose kernel was given this command line. What
    it says on its console is in the file `console` beside `root`; nobody can answer it there. It ends with this, with
    all that it has begun."""
    (root / "etc/said-cmdline").write_text(line + "\n")
    (root / "etc/said-meminfo").write_text(
        f"MemTotal: {memory_kib} kB\nMemFree: {memory_kib} kB\nMemAvailable: {memory_kib} kB\n"
    )
    # What a kernel does not know of its command line is in the environment of what it starts.
    words = [
        word for word in line.split() if re.match(r"\w+=", word) and not word.startswith(("console=", "BOOT_IMAGE="))
    ]
    own = ["env", "-i", "PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/", "TERM=dumb", *words]
    steps = "/sbin/debian-installer-startup; exec /sbin/debian-installer"
    powers = "-all," + ",".join(f"+{power}" for power in POWERS)
    start = ["setpriv", f"--bounding-set={powers}", "chroot", ".", "/bin/busybox", *own, "sh", "-c", steps]
    apart = f"ip netns exec {network.inside} unshare --mount --pid --uts --ipc --fork --kill-child".split()
    command = [*apart, "sh", "-c", f"{BEGIN}exec {shlex.join(start)}", "sh", root]
    with (root.parent / "console").open("wb") as console:
        process = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=console, stderr=console)
        try:
            yield process
        finally:
            process.kill()
            process.wait(60)
