"""Doors of a running guest on QEMU's user-mode network: listed, opened and closed live.

QEMU offers this only through its human monitor, whose errors are text in the answer.
"""

from __future__ import annotations

import re
from ipaddress import IPv4Address

from dacha.core.errors import HostError
from dacha.core.plan.doors import Forward
from dacha.host.probe.ports import first_free_port
from dacha.hypervisor.monitor.qmp import Qmp
from dacha.hypervisor.user_mode import hostfwd

_ROW = re.compile(r"^\s*(TCP|UDP)\[HOST_FORWARD\]\s+\d+\s+(\S+)\s+(\d+)\s+(\S+)\s+(\d+)\s", re.M)

# An incoming connection: its source is the forward's own port here. (An outgoing one has the guest as its source.)
_TAKEN = re.compile(r"^\s*TCP\[(?:ESTABLISHED|CLOSE_WAIT)\]\s+\d+\s+\S+\s+(\d+)\s+([\d.]+)\s+(\d+)\s", re.M)


def parse_forwards(text: str) -> frozenset[Forward]:
    """The host forwards in the answer of `info usernet`."""
    return frozenset(
        Forward(protocol.lower(), _address(listen), int(port), _address(address), int(to))
        for protocol, listen, port, address, to in _ROW.findall(text)
    )


def _address(text: str) -> IPv4Address:
    return IPv4Address("0.0.0.0") if text == "*" else IPv4Address(text)


def forwards(qmp: Qmp) -> frozenset[Forward]:
    """The host forwards that a guest's process has open now."""
    return parse_forwards(qmp.human("info usernet"))


def taken(qmp: Qmp) -> frozenset[tuple[int, IPv4Address, int]]:
    """Connections through forwards that the guest itself has accepted: the host's port, the guest's address and port.
    (QEMU accepts before the guest does.)"""
    return parse_taken(qmp.human("info usernet"))


def parse_taken(text: str) -> frozenset[tuple[int, IPv4Address, int]]:
    """The same from the answer of `info usernet`."""
    return frozenset((int(port), IPv4Address(address), int(to)) for port, address, to in _TAKEN.findall(text))


def open_forward(qmp: Qmp, adapter: int, forward: Forward) -> None:
    """Open one forward on the adapter's network. Raises HostError with QEMU's message."""
    answer = qmp.human(f"hostfwd_add net{adapter} {hostfwd(forward)}").strip()
    if answer:
        # Its process may use ports below 1024 only if it had one at its start.
        low = "to open it at the guest's next start: dacha restart" if forward.port < first_free_port() else ""
        raise HostError(f"QEMU could not open {forward}", why=answer, remedy=low)


def close_forward(qmp: Qmp, adapter: int, forward: Forward) -> None:
    """Close one forward. Raises HostError if it does not exist."""
    answer = qmp.human(f"hostfwd_remove net{adapter} {forward.protocol}:{forward.listen}:{forward.port}").strip()
    if answer and "removed" not in answer:
        raise HostError(f"QEMU could not close {forward}", why=answer)
