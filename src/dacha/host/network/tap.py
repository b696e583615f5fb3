"""Open a tap, so that its descriptor can be passed to a guest's process (Linux: networking/tuntap)."""

from __future__ import annotations

import fcntl
import os
import stat
import struct
import tempfile
from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.descriptors import of_process

# linux/if_tun.h: TUNSETIFF, TUNSETVNETHDRSZ, and the flags of a tap whose packets carry only a virtio header.
_TUNSETIFF, _TUNSETVNETHDRSZ = 0x400454CA, 0x400454D8
_FLAGS = 0x0002 | 0x1000 | 0x4000


def open_tap(name: str) -> int:
    """A descriptor of the tap `name`, closed on exec unless it is passed on. Raises HostError."""
    direct = list(Path(f"/sys/class/net/{name}/macvtap").glob("tap*/dev"))
    try:
        fd = _open_device(direct[0]) if direct else os.open("/dev/net/tun", os.O_RDWR | os.O_CLOEXEC)
    except OSError as e:
        raise HostError(
            f"cannot open the tap {name}",
            why=e.strerror or str(e),
            remedy="run it as root: creating networks requires it",
        ) from e
    try:
        fcntl.ioctl(fd, _TUNSETIFF, struct.pack("16sH22x", name.encode(), _FLAGS))
    except OSError as e:
        os.close(fd)
        raise HostError(f"cannot open the tap {name}", why=e.strerror or str(e), remedy="dacha apply creates it") from e
    return fd


def attach_again(pid: int, number: int, name: str, *, virtio: bool) -> None:
    """Attach a process's open tap, whose link was removed, to the tap `name`: the descriptor stays the same, so the
    process need not be informed (Linux: networking/tuntap; pidfd_getfd(2)). Raises HostError."""
    try:
        process = os.pidfd_open(pid)
        try:
            fd = of_process(process, number)
        finally:
            os.close(process)
        try:
            fcntl.ioctl(fd, _TUNSETIFF, struct.pack("16sH22x", name.encode(), _FLAGS))
            if virtio:
                # The header with the number of buffers, always present in virtio 1.0 (section 5.1.6).
                fcntl.ioctl(fd, _TUNSETVNETHDRSZ, struct.pack("i", 12))
        finally:
            os.close(fd)
    except OSError as e:
        raise HostError(
            f"cannot attach the tap {name} to process {pid}", why=e.strerror or str(e), remedy="dacha restart GUEST"
        ) from e


def _open_device(number: Path) -> int:
    """The device of a tap on an adapter, by its number, not by its name in /dev: that contains the link's index, which
    may be equal in two network namespaces."""
    major, minor = (int(n) for n in number.read_text().split(":"))
    with tempfile.TemporaryDirectory(prefix="dacha-tap-") as folder:
        node = Path(folder) / "tap"
        os.mknod(node, 0o600 | stat.S_IFCHR, os.makedev(major, minor))
        return os.open(node, os.O_RDWR | os.O_CLOEXEC)
