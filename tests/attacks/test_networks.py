"""A hostile guest and a machine on the LAN against a kernel lab: each attack is really sent, and gets nowhere."""

from __future__ import annotations

import os
import re
import signal
import struct
from ipaddress import IPv4Address

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
from tests.networks.world import hold, until


def test_nobody_but_this_host_uses_its_loopback(field: Field) -> None:
    report = Report()
    # The door that the LAN may enter shows that the LAN's packets do arrive.
    report.open("LAN machine: a door from the LAN", field.lan_syn("192.0.2.10", 8020))
    report.open("this host: its own door", field.world.greets("host", "127.0.0.1", 2221))
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


def test_dhcp_belongs_to_the_tap_that_asks(field: Field) -> None:
    report, own, bridge = Report(), field.hardware["squall"], field.gateway

    def says(kind: int, chaddr: bytes, options: bytes = b"", ciaddr: str = "0.0.0.0", client: bytes = b"") -> bytes:
        """A client's message (RFC 2131 section 2)."""
        head = struct.pack(">BBBBIHH", 1, 1, 6, 0, 0x5EED, 0, 0) + IPv4Address(ciaddr).packed + bytes(12)
        body = head + chaddr.ljust(16, b"\0") + bytes(192) + b"\x63\x82\x53\x63" + bytes((53, 1, kind)) + options
        body += bytes((61, len(client))) + client if client else b""
        packet = udp("0.0.0.0" if ciaddr == "0.0.0.0" else "10.77.4.66", "10.77.4.1", 67, body + b"\xff", 68)
        return ethernet(bridge, own, 0x0800, packet)

    def leases() -> dict[str, dict[str, str]]:
        rows = field.lab("caretaker", "status", "--json").json["leases"]
        return {row["address"]: row for row in rows}

    server = bytes((54, 4)) + IPv4Address("10.77.4.1").packed
    wanted = {n: bytes((50, 4)) + IPv4Address(f"10.77.4.{n}").packed for n in range(100, 160)}
    names = {n: bytes((1, 2, 3, 4, 5, n)) for n in wanted}
    field.passed({"discover": says(1, own, client=b"honest")})
    # Sixty machines that are one: by forged hardware addresses, and by as many identifiers.
    strangers = [says(kind, names[n], wanted[n] + (server if kind == 3 else b"")) for n in wanted for kind in (1, 3)]
    field.send(strangers)
    report.shut("guest: DHCP for hardware that is not its own", [a for a in leases() if a.startswith("10.77.4.1")])
    many = [says(k, own, wanted[n] + (server if k == 3 else b""), client=names[n]) for n in wanted for k in (1, 3)]
    field.send(many)
    taken = [a for a in leases() if a.startswith("10.77.4.1")]
    report.shut("guest: more dynamic addresses than one machine may have", taken if len(taken) > 4 else [])
    # Another machine's lease, given back in its name.
    neighbour = field.hardware["gauge"]
    field.lab("connect", "gauge", "--", "true")
    before = leases()
    field.send(
        [says(7, neighbour, server, ciaddr="10.77.4.20"), says(7, own, server, "10.77.4.20", b"\x01" + neighbour)]
    )
    report.shut("guest: another's lease given back", "" if leases().keys() >= before.keys() else leases())
    report.judge()


def test_a_guest_uses_nothing_of_this_host_but_what_is_meant_for_it(field: Field) -> None:
    report, world = Report(), field.world
    ear = world.serve("host", "0.0.0.0", 3128, "host's service")
    far = world.serve("router", "198.51.100.1", 7, "outside")
    try:
        for address in ("10.77.4.1", "192.0.2.10", "10.77.9.1"):
            said = field.on_console("squall", f"nc -w 2 {address} 3128 < /dev/null 2>/dev/null")
            report.shut(f"guest: a service of this host at {address}", said.strip())
        report.open(
            "guest: ping its gateway", "1 packets received" in field.on_console("squall", "ping -c1 -W3 10.77.4.1")
        )
        name = field.on_console("squall", "nslookup gauge.siege.internal 10.77.4.2")
        report.open("guest: the lab's names", "10.77.4.20" in name)
        report.open(
            "guest: its neighbour's door", "HTTP" in field.on_console("squall", "wget -S -O- 192.0.2.10:8020 2>&1")
        )
        refused = field.on_console("squall", "nslookup www.example.org 10.77.9.1")
        report.open("guest: outside names where there is no way out are refused", "REFUSED" in refused)
        resolver = world.serve("host", "192.0.2.10", 53, "host's resolver")
        for address in ("192.0.2.10", "10.77.9.1"):
            said = field.on_console("squall", f"nc -w 2 {address} 53 < /dev/null 2>/dev/null")
            report.shut(f"guest: this host's own resolver, by {address}", "resolver" in said)
        resolver.kill()
        resolver.wait()
        report.open("guest: the way out", "outside" in field.on_console("squall", "nc -w 20 198.51.100.1 7 </dev/null"))
        # What the lab file opens is open, and said.
        text = field.lab.file.read_text()
        field.lab.write(text.replace("dynamic =", 'to-host = ["tcp 3128"]\nway-out = "internet"\ndynamic ='))
        field.lab("apply")
        said = field.on_console("squall", "nc -w 20 10.77.4.1 3128 < /dev/null")
        report.open("guest: a service of this host that the lab opens", "host's service" in said)
        report.open("check says so", "tcp 3128" in field.lab("check", code=None).out)
        report.open("reach says so", "tcp 3128" in field.lab("reach").out)
        world.run("lan", "ip", "address", "add", "192.168.77.20/24", "dev", "eth0")
        world.run("host", "ip", "address", "add", "192.168.77.10/24", "dev", "eth0")
        private = world.serve("lan", "192.168.77.20", 7, "private")
        said = field.on_console("squall", "nc -w 2 192.168.77.20 7 < /dev/null 2>/dev/null")
        report.shut("guest: a private machine of the LAN, way-out internet", said.strip())
        report.open(
            "guest: the internet", "outside" in field.on_console("squall", "nc -w 20 198.51.100.1 7 </dev/null")
        )
        field.lab.file.write_text(text)
        field.lab("apply")
        said = field.on_console("squall", "nc -w 20 192.168.77.20 7 < /dev/null")
        report.open("guest: the same machine, way-out anywhere", "private" in said)
        private.kill()
        private.wait()
    finally:
        for process in (ear, far):
            process.kill()
            process.wait()
    report.judge()


def test_this_hosts_other_networks_stay_apart(field: Field) -> None:
    report, world = Report(), field.world
    # A second network of this host, that has nothing to do with the lab.
    names = [world.name(n) for n in ("host", "outside")]
    world.run("host", "ip", "link", "add", "eth7", "netns", names[0], "type", "veth", "peer", "eth7", "netns", names[1])
    for machine, last in (("host", 1), ("outside", 9)):
        world.run(machine, "ip", "address", "add", f"203.0.113.{last}/24", "dev", "eth7")
        world.run(machine, "ip", "link", "set", "eth7", "up")
    world.run("outside", "ip", "route", "add", "192.0.2.0/24", "via", "203.0.113.1")
    world.run("lan", "ip", "route", "add", "203.0.113.0/24", "via", "192.0.2.10")
    service = world.serve("outside", "203.0.113.9", 7, "second network")
    try:
        report.shut(
            "LAN machine: this host's second network", world.reads("lan", "203.0.113.9", 7, 1.5).replace("silent", "")
        )
        report.open("this host: its second network", "second" in world.reads("host", "203.0.113.9", 7))
        # Without the lab's rules neither, though this host forwards on.
        caretaker = hold(field.lab)
        world.run("host", "nft", "flush", "ruleset")
        flushed = world.reads("lan", "203.0.113.9", 7, 1.5).replace("silent", "")
        report.shut("LAN machine: this host's second network, while rules are missing", flushed)
        report.open("this host, meanwhile: its second network", "second" in world.reads("host", "203.0.113.9", 7))
        world.run("host", "sh", "-c", "for v in 4 6; do ip -$v rule del pref 5603; done")
        report.open("the attempt itself works", "second" in world.reads("lan", "203.0.113.9", 7))
        os.kill(caretaker, signal.SIGCONT)
        until(lambda: not field.lab("diff").out.strip().endswith("change"))
        report.shut("LAN machine: the same afterwards", world.reads("lan", "203.0.113.9", 7, 1.5).replace("silent", ""))
        report.open(
            "guest: the second network", "second" in field.on_console("squall", "nc -w 20 203.0.113.9 7 </dev/null")
        )
    finally:
        service.kill()
        service.wait()
    for setting in ("accept_ra", "accept_dad"):
        value = world.run("host", "cat", f"/proc/sys/net/ipv6/conf/{field.bridge}/{setting}").strip()
        report.open(f"the bridge's {setting} is off", value == "0")
    # Switched on again, forwarding leaves the bridges as they are: this host takes no route from a guest.
    world.run("host", "sysctl", "-qw", "net.ipv6.conf.all.forwarding=0")
    field.lab("apply")
    value = world.run("host", "cat", f"/proc/sys/net/ipv6/conf/{field.bridge}/accept_ra").strip()
    report.open("the bridge's accept_ra is off after forwarding was switched on again", value == "0")
    uplink = world.run("host", "cat", "/proc/sys/net/ipv6/conf/eth0/accept_ra").strip()
    report.open("the uplink still hears its router", uplink == "2")
    report.judge()
