"""A hostile guest and a machine on the LAN against a kernel lab: each attack is really sent, and gets nowhere."""

from __future__ import annotations

import re

from tests.attacks.field import Field
from tests.attacks.frames import (
    EVERYBODY,
    arp_answer,
    ethernet,
    ip6,
    neighbour_advertisement,
    neighbour_solicitation,
    router_advertisement,
    udp,
)
from tests.attacks.report import Report


def test_nobody_but_this_host_uses_its_loopback(field: Field) -> None:
    report = Report()
    # The door that the LAN may enter shows that the LAN's packets do arrive.
    report.open("LAN machine: a door from the LAN", field.lan_syn("192.0.2.10", 8020))
    report.open("this host: its own door", field.world.reads("host", "127.0.0.1", 2221).startswith("SSH-2.0"))
    report.shut("LAN machine: 127.0.0.1 on the wire, a door from this host", field.lan_syn("127.0.0.1", 2221))
    report.shut("LAN machine: 127.0.0.1 on the wire, a door from the LAN", field.lan_syn("127.0.0.1", 8020))
    own, sources = field.hardware["squall"], (("10.77.4.66", "127.0.0.1"), ("127.0.0.1", "127.0.0.2"))

    def from_guest() -> None:
        for source, to in sources:
            field.passed({to: ethernet(field.gateway, own, 0x0800, udp(source, to, 9999, f"{source}>{to}".encode()))})

    heard = field.heard("host", "0.0.0.0", 9999, from_guest)
    report.shut("guest: a datagram to this host's 127.0.0.1", [line for line in heard if "4.66>127." in line])
    report.shut("guest: a datagram from 127.0.0.1", [line for line in heard if line.startswith("127.")])
    report.shut(
        "guest: a door from this host", "SSH" in field.on_console("squall", "nc -w 2 127.0.0.1 2221 </dev/null")
    )
    report.judge()


def test_a_tap_lets_out_what_its_guest_may_say_and_nothing_else(field: Field) -> None:
    report, own, bridge = Report(), field.hardware["squall"], field.gateway
    local = "fe80::6666"
    gateway6 = field.world.run("host", "ip", "-brief", "-6", "address", "show", field.bridge).split()
    gateway6 = next(a.partition("/")[0] for a in gateway6 if a.startswith("fe80"))
    forged = {
        "ARP: I am the gateway": (0x0806, arp_answer(own, "10.77.4.1", "10.77.4.20")),
        "ARP: I am the neighbour": (0x0806, arp_answer(own, "10.77.4.20", "10.77.4.1")),
        "ARP between other kinds of hardware": (
            0x0806, b"\x00\x06" + arp_answer(own, "10.77.4.1", "10.77.4.20")[2:],
        ),
        "IP from the neighbour's address": (0x0800, udp("10.77.4.20", "10.77.4.255", 9, b"forged neighbour")),
        "DHCP server": (0x0800, udp("10.77.4.66", "10.77.4.255", 68, b"forged server", 67)),
        "IPv6 from the neighbour's address": (0x86DD, ip6("fd77:4::20", "ff02::1", 59, b"forged")),
        "router advertisement": (0x86DD, router_advertisement(local, own)),
        "router advertisement behind an extension header": (
            0x86DD, router_advertisement(local, own, extension=True),
        ),
        "router advertisement from the gateway's link-local address": (0x86DD, router_advertisement(gateway6, own)),
        "neighbour advertisement: I am the gateway, link-local": (
            0x86DD, neighbour_advertisement(local, gateway6, own),
        ),
        "neighbour advertisement: I am the gateway": (0x86DD, neighbour_advertisement(local, "fd77:4::1", own)),
        "neighbour advertisement: I am the neighbour": (0x86DD, neighbour_advertisement(local, "fd77:4::20", own)),
        "neighbour solicitation from the gateway's link-local address": (
            0x86DD, neighbour_solicitation(gateway6, "fd77:4::20", own),
        ),
        "DHCPv6 server": (
            0x86DD, ip6(local, "ff02::1", 17, (547).to_bytes(2, "big") + (546).to_bytes(2, "big") + bytes(4)),
        ),
    }  # fmt: skip
    frames = {f"guest: {n}": ethernet(EVERYBODY, own, kind, data + b"plain") for n, (kind, data) in forged.items()}
    honest = {  # allowed as they are, but not within tags
        "honest ARP": (0x0806, arp_answer(own, "10.77.4.66", "10.77.4.20")),
        "honest IP": (0x0800, udp("10.77.4.66", "10.77.4.255", 9, b"honest")),
    }
    for name, (kind, data) in {**forged, **honest}.items():
        for tags in ((0,), (7,), (0, 0)):
            words = "tag " + " and ".join(map(str, tags))
            # Its own mark, so that it is known again: what pads a frame is no part of the message.
            marked = data + name.encode()[:8] + bytes(tags) + b"tagged"
            frames[f"guest: {name}, {words}"] = ethernet(EVERYBODY, own, kind, marked, tags)
    frames["guest: LLC frame"] = ethernet(EVERYBODY, own, 60, b"\xaa\xaa\x03" + b"raw 802.3".ljust(57, b"."))
    frames["guest: another's hardware address"] = ethernet(
        EVERYBODY, field.hardware["gauge"], 0x0800, udp("10.77.4.66", "10.77.4.255", 9, b"other hardware")
    )
    frames["guest: the bridge's hardware address"] = ethernet(
        EVERYBODY, bridge, 0x0800, udp("10.77.4.66", "10.77.4.255", 9, b"bridge's hardware")
    )
    frames["guest: MPLS"] = ethernet(EVERYBODY, own, 0x8847, b"another kind of frame".ljust(46, b"."))
    frames["guest: PPPoE discovery"] = ethernet(EVERYBODY, own, 0x8863, b"yet another kind".ljust(46, b"."))
    before = neighbours(field)
    for name, seen in field.passed(frames).items():
        report.shut(name, sorted(seen))
    report.shut("neighbour's and host's tables changed", "" if neighbours(field) == before else neighbours(field))
    plain = {name: ethernet(EVERYBODY, own, kind, data) for name, (kind, data) in honest.items()}
    for name, seen in field.passed(plain).items():
        report.open(f"guest: {name}", seen == {"host", "neighbour"})
    report.judge()


def neighbours(field: Field) -> list[str]:
    """Whom the honest guest and this host know, and by which way the guest goes out."""
    table = field.lab("connect", "gauge", "--", "ip neigh; ip -6 route; ip -6 neigh").out.splitlines()
    table += field.world.run("host", "ip", "neigh", "show", "dev", field.bridge).splitlines()
    table += field.world.run("host", "ip", "-6", "route").splitlines()
    # Their state and counters come and go.
    known = (re.match(r"(\S+) (?:dev \S+ )?(?:lladdr (\S+))?", line) for line in table)
    return sorted({f"{m[1]} {m[2] or ''}" for m in known if m and m[2]} | {x for x in table if "default" in x})
