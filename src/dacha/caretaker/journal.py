"""Leases on disk: one line each, written before the client gets its answer, so that a killed process loses none."""

from __future__ import annotations

import contextlib
import errno
import json
import os
from ipaddress import IPv4Address
from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.files import replace_file
from dacha.wire.dhcp.dhcp4_lease import Lease

# The file is rewritten when it has this many more lines than leases.
SLACK = 10_000


class Journal:
    """The leases of one network. A line truncated by a power failure is ignored."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.leases = read(path)
        self._unwritten = False
        self._rewrite()

    def keep(self, lease: Lease) -> None:
        """Record a lease durably. Raises OSError if it cannot be written: then it is in memory only, and written
        together with the next one."""
        self.leases[lease.address] = lease
        if self._unwritten:
            self._rewrite_or_raise()
            return
        line = _line(lease)
        try:
            if os.write(self._fd, line) != len(line):
                # A full disk accepted a part of it: readers ignore truncated lines.
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        except OSError:
            self._unwritten = True
            raise
        self._lines += 1
        if self._lines > len(self.leases) + SLACK:
            before = self._fd
            # If this fails, the former file is still used, and the next lease tries again.
            with contextlib.suppress(HostError, OSError):
                self._rewrite()
                os.close(before)

    def _rewrite_or_raise(self) -> None:
        before = self._fd
        try:
            self._rewrite()
        except HostError as e:
            raise OSError(errno.ENOSPC, e.why or e.what) from e
        os.close(before)
        self._unwritten = False

    def _rewrite(self) -> None:
        replace_file(self.path, b"".join(_line(lease) for lease in self.leases.values()), mode=0o600)
        self._fd = os.open(self.path, os.O_WRONLY | os.O_APPEND | os.O_CLOEXEC)
        self._lines = len(self.leases)

    def there(self) -> bool:
        """True while its file is the one with its name: it was not replaced or deleted."""
        with contextlib.suppress(OSError):
            return os.path.samestat(os.fstat(self._fd), self.path.stat())
        return False

    def close(self) -> None:
        os.close(self._fd)


def _line(lease: Lease) -> bytes:
    row = [str(lease.address), lease.client.hex(), lease.hardware.hex(), lease.until, lease.state, lease.host_name]
    return json.dumps(row).encode() + b"\n"


def read(path: Path) -> dict[IPv4Address, Lease]:
    """The leases in a journal; none if the file does not exist."""
    found: dict[IPv4Address, Lease] = {}
    try:
        lines = path.read_bytes().splitlines()
    except OSError:
        return found
    for line in lines:
        try:
            address, client, hardware, until, state, name = json.loads(line)
            lease = Lease(
                IPv4Address(address), bytes.fromhex(client), bytes.fromhex(hardware), float(until), state, name
            )
        except (ValueError, TypeError):
            continue
        found[lease.address] = lease
    return found
