"""A hostile guest and a machine on the LAN against a kernel lab: each attack is really sent, and gets nowhere."""

from __future__ import annotations

from tests.attacks.field import Field
from tests.attacks.frames import ethernet, udp
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
