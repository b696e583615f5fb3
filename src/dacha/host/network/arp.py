"""Check with ARP whether an address on a LAN is already in use, before a guest uses it (RFC 5227)."""

from __future__ import annotations

import contextlib
import select
import socket
import time
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address

from dacha.core.errors import HostError, PeerError
from dacha.wire.link.ethernet import ETHERTYPE_ARP, EVERYBODY, Arp, arp_probe, decode_arp, encode_arp

# Three probes, as in RFC 5227 section 2.1.1, but at shorter intervals: its five seconds would delay every start, and
# machines on a wired LAN answer within milliseconds.
PROBES, APART_S, WAIT_S = 3, 0.2, 0.5
Question = tuple[str, IPv4Address]


def owners(questions: Iterable[Question]) -> dict[Question, str]:
    """The users of each address on the LAN of its interface: the hardware addresses that answer. All are probed
    together, which takes about a second. Raises HostError if nothing can be sent."""
    asked = list(dict.fromkeys(questions))
    found: dict[Question, str] = {}
    with contextlib.ExitStack() as stack:
        sockets = {name: stack.enter_context(_arp_socket(name)) for name in {name for name, _ in asked}}
        for n in range(PROBES):
            for name, address in asked:
                if (name, address) not in found:
                    _ask(sockets[name], name, address)
            until = time.monotonic() + (APART_S if n < PROBES - 1 else WAIT_S)
            for interface, told in _heard(sockets, until):
                if (interface, told.sender) in asked:
                    found[interface, told.sender] = told.sender_hardware.hex(":")
                if len(found) == len(asked):
                    return found
    return found


def _arp_socket(interface: str) -> socket.socket:
    try:
        s = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, 0)
        s.bind((interface, ETHERTYPE_ARP))
    except OSError as e:
        raise HostError(f"cannot listen for addresses on {interface}", why=e.strerror or str(e)) from e
    return s


def _ask(s: socket.socket, interface: str, address: IPv4Address) -> None:
    question = encode_arp(arp_probe(s.getsockname()[4], address))
    with contextlib.suppress(OSError):  # an interface that went down has no other machines
        s.sendto(question, (interface, ETHERTYPE_ARP, 0, 0, EVERYBODY))


def _heard(sockets: dict[str, socket.socket], until: float) -> Iterator[tuple[str, Arp]]:
    """What is received on these links until then (monotonic): the link, and the packet."""
    names = {s: name for name, s in sockets.items()}
    while (left := until - time.monotonic()) > 0:
        for s in select.select(list(names), [], [], left)[0]:
            with contextlib.suppress(OSError, PeerError):
                told = decode_arp(s.recv(2048))
                if told.sender_hardware != s.getsockname()[4]:
                    yield names[s], told


def answers(
    interface: str, address: IPv4Address, timeout_s: float, patient_s: float = 0.0
) -> tuple[tuple[str, ...], float]:
    """All machines that answer for an address on a link within `timeout_s` seconds, by hardware address, and the time
    to the first answer (milliseconds). Without an answer, it is repeated until `patient_s`: a machine may be slow.
    Raises HostError if nothing can be sent."""
    heard: dict[str, float] = {}
    began = time.monotonic()
    with _arp_socket(interface) as s:
        until = began
        while until < began + timeout_s or (not heard and until < began + patient_s):
            until += timeout_s / 2
            _ask(s, interface, address)
            for _, told in _heard({interface: s}, until):
                if told.sender == address:
                    heard.setdefault(told.sender_hardware.hex(":"), 1000 * (time.monotonic() - began))
    return tuple(heard), next(iter(heard.values()), 0.0)
