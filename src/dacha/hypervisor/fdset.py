"""Files passed to QEMU already open: its user need not have access to their folders.

QEMU refers to such a file as /dev/fdset/N (QEMU documentation: -add-fd, QMP add-fd).
"""

from __future__ import annotations

import base64
import contextlib
import os
import shutil
import stat
from collections.abc import Callable
from functools import partial
from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.accounts import Account
from dacha.hypervisor.images import chain, passphrases
from dacha.hypervisor.images.layers import Layer
from dacha.hypervisor.monitor.qmp import Qmp


class FdSet:
    """The descriptors for one process. With the same user (`account` None), files keep their names."""

    def __init__(self, account: Account | None) -> None:
        self.account = account
        self._sets: list[int] = []
        self._kept: list[int] = []
        self._secrets: list[tuple[str, int]] = []

    def name(self, path: Path, flags: int = os.O_RDONLY) -> str:
        """The name by which the process opens a file that is opened now. Raises HostError."""
        if self.account is None:
            return str(path)
        self._sets.append(_open(path, flags))
        return f"/dev/fdset/{len(self._sets)}"

    def pipe(self, fd: int) -> str:
        """The name by which the process opens an open pipe; it keeps a duplicate."""
        self._sets.append(os.dup(fd))
        return f"/dev/fdset/{len(self._sets)}"

    def layers(self, path: Path) -> tuple[Layer, ...]:
        """A disk with all its backing images; only the first is opened for writing. The process reads the passphrase of
        an encrypted one from a pipe."""
        found, key = _layers(path, self.name), chain.key(path)
        if key is None:
            return found
        self._kept.append(passphrases.pipe(key, self.account))
        self._secrets.append((secret_of(path), self._kept[-1]))
        return (found[0]._replace(secret=secret_of(path)), *found[1:])

    def readable(self, path: Path) -> str:
        """A name for a file that QEMU opens by itself, such as a kernel."""
        if self.account is None:
            return str(path)
        fd = _open(path, os.O_RDONLY)
        if not os.fstat(fd).st_mode & stat.S_IROTH:
            # Another user could not open it again; a copy in memory has no owner.
            copy = os.memfd_create(path.name)
            with open(fd, "rb") as source, open(copy, "wb", closefd=False) as target:
                shutil.copyfileobj(source, target)
            fd = copy
        # Not in a set: QEMU closes those descriptors itself, and keeps a duplicate.
        self._kept.append(fd)
        return f"/proc/self/fd/{fd}"

    @property
    def descriptors(self) -> tuple[int, ...]:
        """The descriptors that the process must inherit."""
        return (*self._sets, *self._kept)

    def argv(self) -> list[str]:
        """The options that describe its files to QEMU."""
        told = [("-add-fd", f"fd={fd},set={n}") for n, fd in enumerate(self._sets, 1)]
        told += [("-object", f"secret,id={name},file=/proc/self/fd/{fd}") for name, fd in self._secrets]
        return [word for pair in told for word in pair]

    def close(self) -> None:
        for fd in self.descriptors:
            os.close(fd)
        self._sets.clear()
        self._kept.clear()


def pass_file(qmp: Qmp, path: Path, flags: int = os.O_RDONLY) -> str:
    """The name by which a running QEMU opens a file. Raises HostError."""
    if qmp.uid == os.geteuid():
        return str(path)
    fd = _open(path, flags)
    try:
        return f"/dev/fdset/{qmp.execute('add-fd', descriptors=(fd,))['fdset-id']}"
    finally:
        os.close(fd)


def pass_layers(qmp: Qmp, path: Path) -> tuple[Layer, ...]:
    """A disk with all its backing images, for a running QEMU, which gets the passphrase of an encrypted one."""
    found = _layers(path, partial(pass_file, qmp))
    return (found[0]._replace(secret=pass_secret(qmp, path)), *found[1:])


def pass_secret(qmp: Qmp, path: Path) -> str | None:
    """Give a running QEMU the passphrase of a disk: the secret's identifier; None if the disk is not encrypted."""
    key = chain.key(path)
    if key is None:
        return None
    with contextlib.suppress(HostError):  # it does not have it any more
        qmp.execute("object-del", {"id": secret_of(path)})
    data = base64.b64encode(key).decode()
    qmp.execute("object-add", {"qom-type": "secret", "id": secret_of(path), "data": data, "format": "base64"})
    return secret_of(path)


def secret_of(path: Path) -> str:
    """The identifier of a disk's passphrase in QEMU, from the disk's path in the state folder."""
    return f"key-{path.stem.removeprefix('disk-')}"


def _layers(path: Path, name: Callable[[Path, int], str]) -> tuple[Layer, ...]:
    """Each image of a disk with its name for QEMU; only the first is opened for writing."""
    found = enumerate(chain.layers(path))
    return tuple(Layer(format, name(file, os.O_RDONLY if n else os.O_RDWR)) for n, (file, format) in found)


def _open(path: Path, flags: int) -> int:
    try:
        return os.open(path, flags | os.O_CLOEXEC, 0o600)
    except OSError as e:
        raise HostError(f"cannot open {path} for the guest", why=e.strerror or str(e)) from e
