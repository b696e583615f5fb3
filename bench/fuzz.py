"""A million broken packets for every codec that reads the wire: none crashes, none hangs, none makes the process grow.

Recorded messages are cut, joined and changed at random (with a stated seed); whatever comes out, a codec reads it or
refuses it in its own words, and the servers behind answer or stay silent.
"""

from __future__ import annotations

import random
import resource
import sys
import time
from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network

import dns.message

from dacha.core.errors import PeerError
from dacha.wire.dhcp import dhcp4, dhcp6
from dacha.wire.dhcp.dhcp4_lease import Probe, Scope
from dacha.wire.dhcp.dhcp4_server import Server
from dacha.wire.dns.cache import Cache
from dacha.wire.dns.zone import Zone
from dacha.wire.link.ethernet import arp_probe, decode_arp, encode_arp
from dacha.wire.link.neighbour import decode_neighbour
from dacha.wire.router import nat_pmp, pcp
from labs import verdict

SEED, GROWTH_MB, SLOWEST_S = 20261123, 40, 1.0
HARDWARE = b"\2\0\0\0\0\x20"
DHCP = [
    dhcp4.encode(
        dhcp4.Message(1, 7, HARDWARE, {53: bytes((kind,)), 50: b"\x0a\x4d\4\x64", 61: b"\1" + HARDWARE, 82: b"relay"})
    )
    for kind in range(1, 9)
]
DNS = [
    dns.message.make_query(name, kind, use_edns=edns).to_wire()
    for name, kind in (("gauge.real.internal", "A"), ("20.4.77.10.in-addr.arpa", "PTR"), ("real.internal", "ANY"))
    for edns in (-1, 0)
]
KNOWN6 = {HARDWARE: IPv6Address("fd77:4::20")}
GUEST6 = dhcp6.Scope6(IPv6Network("fd77:4::/64"), b"\0\3\0\1server", KNOWN6, (), "real.internal")
CLIENT6 = (1, b"\0\3\0\1" + HARDWARE), (3, bytes(12) + b"\0\5\0\x18" + bytes(24))
DHCP6 = [dhcp6.encode(dhcp6.Message(kind, b"abc", CLIENT6)) for kind in range(1, 12)]
ND = [
    bytes.fromhex("6000000000183aff") + bytes(15) + b"\x20" + bytes(16) + bytes((kind, 0)) + bytes(22)
    for kind in (135, 136)
]
MAPPED = pcp.Map(bytes(12), pcp.TCP, 2210, 2210, IPv4Address("203.0.113.7"))
ROUTER = [
    pcp.encode_response(pcp.Response(0, 7200, 60, MAPPED)), pcp.encode_response(pcp.Response(0, 0, 60)),
    pcp.encode_request(pcp.Request(IPv4Address("192.0.2.10"), 7200, MAPPED, IPv4Address("192.0.2.20"), True)),
    nat_pmp.encode_response(nat_pmp.Response(0, 0, 60, IPv4Address("203.0.113.7"))),
    nat_pmp.encode_response(nat_pmp.Response(2, 0, 60, None, 2210, 2210, 7200)),
    nat_pmp.encode_request(nat_pmp.Request(2, 2210, 2210, 7200)),
]  # fmt: skip
ARP = [encode_arp(arp_probe(HARDWARE, IPv4Address("10.77.4.20")))]


def broken(rng: random.Random, samples: list[bytes]) -> bytes:
    """A sample with some of its bytes changed, cut, doubled, or with junk behind it."""
    data = bytearray(rng.choice(samples))
    for _ in range(rng.randrange(1, 8)):
        at = rng.randrange(len(data) or 1)
        match rng.randrange(5):
            case 0:
                data[at : at + 1] = rng.randbytes(1)
            case 1:
                del data[at:]
            case 2:
                data[at:at] = data[at : at + rng.randrange(1, 40)]
            case 3:
                data[at : at + 2] = rng.choice((b"\xff\xff", b"\0\0", b"\xc0\x0c", b"\x3f\xff"))
            case _:
                data += rng.randbytes(rng.randrange(64))
        if not data:
            break
    return bytes(data)


def main() -> int:
    rng = random.Random(SEED)
    scope = Scope(
        subnet=IPv4Network("10.77.4.0/24"), server=IPv4Address("10.77.4.1"), router=None, name_servers=(),
        domain="real.internal",
        reservations={}, dynamic=(IPv4Address("10.77.4.100"), IPv4Address("10.77.4.150")),
    )  # fmt: skip
    server, cache = Server(scope), Cache()
    zone = Zone("real.internal", {"gauge": [IPv4Address("10.77.4.20")]}, [scope.subnet])

    def dhcp(data: bytes) -> None:
        for action in server.receive(dhcp4.decode(data), time.time()):
            if isinstance(action, Probe):
                server.probed(action, rng.random() < 0.1, time.time())

    def names(data: bytes) -> None:
        if zone.answer(data) is None:
            cache.find(data, 0.0, udp=True)
            cache.keep(data, data, 0.0)

    def ip6(data: bytes) -> None:
        dhcp6.answer(GUEST6, dhcp6.decode(data), IPv6Address("fe80::1"))

    def router(data: bytes) -> None:
        rng.choice((pcp.decode_request, pcp.decode_response, nat_pmp.decode_request, nat_pmp.decode_response))(data)

    kinds: list[tuple[str, Callable[[bytes], object], list[bytes], int]] = [
        ("DHCP", dhcp, DHCP, 350_000), ("DHCPv6", ip6, DHCP6, 200_000), ("ARP", decode_arp, ARP, 150_000),
        ("neighbour discovery", decode_neighbour, ND, 50_000), ("PCP and NAT-PMP", router, ROUTER, 50_000),
        ("DNS", names, DNS, 200_000),
    ]  # fmt: skip
    total, slowest = 0, 0.0
    before = 0
    for name, take, samples, count in kinds:
        refused = 0
        for n in range(count):
            data = broken(rng, samples)
            began = time.monotonic()
            try:
                take(data)
            except PeerError:
                refused += 1
            slowest = max(slowest, time.monotonic() - began)
            if n == count // 10 and name == "DHCP":
                before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        total += count
        print(f"{name}: {count} packets, {refused} refused, {count - refused} read")
    growth = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) // 1024
    held = growth <= GROWTH_MB and slowest <= SLOWEST_S
    figure = f"{total} packets, no crash, slowest {slowest * 1000:.0f} ms, +{growth} MB, {len(server.leases)} leases"
    return verdict(figure, f"limits {SLOWEST_S:.0f} s, {GROWTH_MB} MB", held)


if __name__ == "__main__":
    sys.exit(main())
