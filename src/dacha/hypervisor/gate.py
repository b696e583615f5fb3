"""The gate: what a guest on QEMU's user-mode network may enter of this host and the LAN.

That network makes a guest's connections in QEMU's own name, and leads those for the gateway to this host's loopback.
So the kernel asks here before each of them (seccomp_unotify(2)): the loopback and this host's own addresses are shut,
but for what a file of rules opens, one of these a line:

    host tcp 3128-3128     ports of this host, on its loopback too; "host all" for everything
    shut 10.77.4.0/24      addresses that are not reached: those of networks that the kernel carries
    internet               no private address is reached but this host's, as the other lines say

The rules are read again all the time (at most a second late), so that they hold for guests that run. Questions of names
go to the host's own name servers, wherever they are. There is one such process for each guest, as the same user and
with no more privileges, as it reads the addresses in that guest's process. It is run by itself (`python gate.py CHANNEL
RULES`, open descriptors), imports nothing of Dacha's, and ends with its guest; should it be killed, nothing new leaves
the guest.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import ipaddress
import os
import select
import socket
import struct
import sys
import time

# linux/seccomp.h: _IOWR('!', 0, struct seccomp_notif), _IOWR('!', 1, struct seccomp_notif_resp).
_RECEIVE, _SEND = 0xC0502100, 0xC0182101
# id, pid, flags; number, architecture, instruction pointer, six arguments. And: id, value, error, flags.
_QUESTION, _ANSWER = struct.Struct("=QIIiIQ6Q"), struct.Struct("=Qqii")
_CONTINUE = 1
# By system call number (aarch64, x86_64): connect(2) has its address in the second argument, sendto(2) in the fifth.
# QEMU makes TCP connections with the first and sends datagrams with the other.
_CALLS = {203: ("tcp", 1), 42: ("tcp", 1), 206: ("udp", 4), 44: ("udp", 4)}
_DNS, _LONGEST, _RULES_MOST = 53, 128, 64 << 10
_KEPT_S, _KNOWN_MOST = 1.0, 1024
_PRIVATE = [
    ipaddress.ip_network(n)
    for n in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "169.254.0.0/16", "fc00::/7")
]

Address = ipaddress.IPv4Address | ipaddress.IPv6Address


def destination(data: bytes) -> tuple[Address, int] | None:
    """The address and port in a sockaddr; None for another family (ip(7), ipv6(7))."""
    family = int.from_bytes(data[:2], sys.byteorder)
    if family == socket.AF_INET and len(data) >= 8:
        return ipaddress.IPv4Address(data[4:8]), int.from_bytes(data[2:4], "big")
    if family == socket.AF_INET6 and len(data) >= 24:
        address = ipaddress.IPv6Address(data[8:24])
        return address.ipv4_mapped or address, int.from_bytes(data[2:4], "big")
    return None


def admits(rules: str, protocol: str, address: Address, port: int, *, own: bool, resolvers: set[Address]) -> bool:
    """Whether a guest with these rules may connect to a port of an address; `own` is true for an address of this
    host."""
    near = address.is_loopback or address.is_unspecified
    if port == _DNS and address in resolvers:
        return True
    lines = [line.split() for line in rules.splitlines()]
    if near or own:
        opened = [words[1:] for words in lines if words[0] == "host"]
        return ["all"] in opened or any(words[0] == protocol and _in(words[1], port) for words in opened)
    if any(words[0] == "shut" and address in ipaddress.ip_network(words[1]) for words in lines):
        return False
    return ["internet"] not in lines or not any(address in net for net in _PRIVATE)


def _in(span: str, port: int) -> bool:
    first, _, last = span.partition("-")
    return int(first) <= port <= int(last)


def own(address: Address) -> bool:
    """True for an address of this host: the kernel would use the address itself as the source. Nothing is sent."""
    family = socket.AF_INET if address.version == 4 else socket.AF_INET6
    with contextlib.suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as s:
        s.connect((str(address), 9))
        return bool(ipaddress.ip_address(s.getsockname()[0].partition("%")[0]) == address)
    return False


def resolvers() -> set[Address]:
    """The host's name servers (resolv.conf(5)), which QEMU queries for the guest."""
    found: set[Address] = set()
    with contextlib.suppress(OSError), open("/etc/resolv.conf", encoding="utf-8", errors="replace") as lines:
        for line in lines:
            words = line.split()
            if words[:1] == ["nameserver"] and words[1:]:
                with contextlib.suppress(ValueError):
                    found.add(ipaddress.ip_address(words[1].partition("%")[0]))
    return found


class Gate:
    """The decisions for one guest's process: the descriptor of its notifications, and that of its rules."""

    def __init__(self, questions: int, rules: int) -> None:
        self._questions, self._rules = questions, rules
        self._memory: tuple[int, int] = (0, -1)
        self._known: dict[tuple[str, bytes], bool] = {}
        self._since = 0.0

    def answer(self) -> None:
        """Receive one notification and answer it. A process that was killed in the meantime has none."""
        question = bytearray(_QUESTION.size)
        with contextlib.suppress(OSError):
            fcntl.ioctl(self._questions, _RECEIVE, question)
            number, pid, _, call, _, _, *arguments = _QUESTION.unpack(question)
            refused = self._refused(pid, call, arguments)
            fcntl.ioctl(self._questions, _SEND, _ANSWER.pack(number, 0, -refused, 0 if refused else _CONTINUE))

    def _refused(self, pid: int, call: int, arguments: list[int]) -> int:
        """The error that a call fails with, or 0 to continue it."""
        protocol, at = _CALLS[call]
        try:
            data = os.pread(self._memory_of(pid), min(arguments[at + 1] & 0xFFFFFFFF, _LONGEST), arguments[at])
            return 0 if self._admits(protocol, data) else errno.ECONNREFUSED
        except (OSError, OverflowError, ValueError, IndexError):
            return errno.EACCES

    def _admits(self, protocol: str, data: bytes) -> bool:
        """The decision for one address; cached briefly, because each datagram of a flow asks."""
        if len(self._known) > _KNOWN_MOST or time.monotonic() > self._since + _KEPT_S:
            self._known, self._since = {}, time.monotonic()
        if (protocol, data) not in self._known:
            found = destination(data)
            rules = os.pread(self._rules, _RULES_MOST, 0).decode()
            self._known[protocol, data] = found is None or admits(
                rules, protocol, *found, own=own(found[0]), resolvers=resolvers()
            )
        return self._known[protocol, data]

    def _memory_of(self, pid: int) -> int:
        if self._memory[0] != pid:
            self._memory = (pid, os.open(f"/proc/{pid}/mem", os.O_RDONLY))
        return self._memory[1]


def main() -> None:
    channel, rules = map(int, sys.argv[1:])
    with socket.socket(fileno=channel) as s:
        data, descriptors, _, _ = socket.recv_fds(s, 1, 1)
    if not data or not descriptors:
        return  # the guest was not started
    gate, poll = Gate(descriptors[0], rules), select.poll()
    poll.register(descriptors[0], select.POLLIN)
    while all(event & select.POLLIN for _, event in poll.poll()):
        gate.answer()


if __name__ == "__main__":
    main()
