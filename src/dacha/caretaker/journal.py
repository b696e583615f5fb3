"""Leases on disk: one line a lease, written before the client is told, so that a killed process loses none."""

from __future__ import annotations

import contextlib
import errno
import json
import os
from ipaddress import IPv4Address
from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.files import replace_file
from dacha.wire.dhcp4_server import Lease

# Lines that later ones have overtaken are swept when there are this many more than leases.
SLACK = 10_000


class Journal:
    """The leases of one network. A line cut short by a power failure is passed over."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.leases = read(path)
        self._rewrite()

    def keep(self, lease: Lease) -> None:
        """Note a lease. It outlives this process from now on. Raises OSError where it cannot be written."""
        line = _line(lease)
        if os.write(self._fd, line) != len(line):
            os.write(self._fd, b"\n")  # a full disk took a part of it: what is cut is passed over
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        self.leases[lease.address] = lease
        self._lines += 1
        if self._lines > len(self.leases) + SLACK:
            before = self._fd
            # Should this fail, the former file goes on to be written to, and it is tried again with the next lease.
            with contextlib.suppress(HostError, OSError):
                self._rewrite()
                os.close(before)

    def _rewrite(self) -> None:
        replace_file(self.path, b"".join(_line(lease) for lease in self.leases.values()), mode=0o600)
        self._fd = os.open(self.path, os.O_WRONLY | os.O_APPEND | os.O_CLOEXEC)
        self._lines = len(self.leases)

    def close(self) -> None:
        os.close(self._fd)


def _line(lease: Lease) -> bytes:
    row = [str(lease.address), lease.client.hex(), lease.hardware.hex(), lease.until, lease.state, lease.host_name]
    return json.dumps(row).encode() + b"\n"


def read(path: Path) -> dict[IPv4Address, Lease]:
    """The leases in a journal; none when there is no such file."""
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
