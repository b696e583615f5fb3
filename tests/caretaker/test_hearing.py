"""Who uses which link-local address, as heard at the taps; and what a DHCPv6 client gets before that is known."""

from __future__ import annotations

import asyncio
import socket
from ipaddress import IPv6Address, IPv6Network
from typing import Any

from dacha.caretaker.packets.hearing import EACH_MOST, LinkLocals
from dacha.caretaker.packets.ip6 import PATIENCE, Ip6Service
from dacha.wire.dhcp import dhcp6
from dacha.wire.link.router_advertisement import Advertisement

PRIVATE, OTHER = IPv6Address("fe80::7217:1"), IPv6Address("fe80::7217:2")
GAUGE, CHARTS = "02:00:00:00:00:20", "02:00:00:00:00:21"


def test_an_address_is_the_adapters_that_alone_was_heard_to_use_it() -> None:
    heard = LinkLocals()
    heard.note("tap0", GAUGE, PRIVATE)
    heard.note("tap1", CHARTS, OTHER)
    assert heard.of(PRIVATE) == bytes.fromhex("020000000020") and heard.of(OTHER) == bytes.fromhex("020000000021")
    assert heard.of(IPv6Address("fe80::9")) is None
    # Somebody who says that it is theirs too makes it nobody's, and never theirs.
    heard.note("tap1", CHARTS, PRIVATE)
    assert heard.of(PRIVATE) is None
    for n in range(EACH_MOST):
        heard.note("tap1", CHARTS, IPv6Address(f"fe80::{n:x}"))
    assert heard.of(PRIVATE) == bytes.fromhex("020000000020") and heard.of(OTHER) is None


class Sending:
    """A socket that notes what it is to send."""

    def __init__(self) -> None:
        self.sent: list[tuple[bytes, Any]] = []
        self.waiting: list[bytes] = []
        self._end, self.other = socket.socketpair()

    def fileno(self) -> int:
        return self._end.fileno()

    def recvfrom(self, size: int) -> tuple[bytes, tuple[str, int, int, int]]:
        if not self.waiting:
            raise BlockingIOError
        return self.waiting.pop(), (f"{PRIVATE}%lo", 546, 0, 1)

    def sendto(self, data: bytes, to: Any) -> None:
        self.sent.append((data, to))

    def close(self) -> None:
        self._end.close()
        self.other.close()


def test_a_client_that_is_not_known_yet_is_looked_for_before_its_identifier_is_believed() -> None:
    async def asked() -> tuple[list[int], list[IPv6Address]]:
        hardware = bytes.fromhex("020000000020")
        scope = dhcp6.Scope6(
            IPv6Network("fd77:4::/64"), dhcp6.identifier_of(b"\2\0\0\0\0\1"), {hardware: IPv6Address("fd77:4::20")},
            (), "real.internal",
        )  # fmt: skip
        icmp, udp, known = Sending(), Sending(), dict[IPv6Address, bytes]()
        said = Advertisement(scope.subnet, False, (), "real.internal", b"\2\0\0\0\0\1")
        service = Ip6Service("lo", said, scope, {"icmp6": icmp, "dhcp6": udp}, lambda text: None, known.get)  # type: ignore[dict-item]
        solicit = dhcp6.encode(
            dhcp6.Message(dhcp6.SOLICIT, b"abc", ((1, b"\0\4" + bytes(16)), (3, b"iaid" + bytes(8))))
        )
        answered = []
        for _ in range(PATIENCE):
            udp.waiting.append(solicit)
            service._readable()
            answered.append(len(udp.sent))
        looked_for = [to[0] for _, to in icmp.sent]
        known[PRIVATE] = hardware  # its answer to that was heard at its tap
        udp.waiting.append(solicit)
        service._readable()
        service.close()
        assert IPv6Address("fd77:4::20").packed in udp.sent[-1][0]
        return answered, [IPv6Address(a) for a in looked_for]

    answered, looked_for = asyncio.run(asked())
    assert answered == [*[0] * (PATIENCE - 1), 1] and looked_for.count(PRIVATE) == PATIENCE
