"""A LAN's own DHCP server for tests: `lan_dhcp.py JOURNAL` hands out 192.0.2.100 and up on eth0."""

import asyncio
import sys
from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

from dacha.caretaker.journal import Journal
from dacha.caretaker.packets.dhcp import DhcpService
from dacha.caretaker.packets.frames import SendProbe, SendReply
from dacha.caretaker.packets.relay import frame
from dacha.caretaker.sockets import open_network, sends_by
from dacha.wire.dhcp.dhcp4_lease import Lease, Scope

ROUTER = IPv4Address("192.0.2.1")
SCOPE = Scope(
    subnet=IPv4Network("192.0.2.0/24"), server=ROUTER, router=ROUTER, name_servers=(ROUTER,), domain="example.org",
    reservations={}, dynamic=(IPv4Address("192.0.2.100"), IPv4Address("192.0.2.120")),
)  # fmt: skip


async def serve() -> None:
    journal = Journal(Path(sys.argv[1]))

    def keep(lease: Lease, go_on: Callable[[], None]) -> None:
        journal.keep(lease)
        go_on()

    sockets = open_network("eth0", four=True, six=False, resolvers=())
    sends = sends_by("eth0")

    def send(message: SendProbe | SendReply) -> None:
        sends.send(frame(message, sends.getsockname()[4], ROUTER))

    DhcpService("lan", SCOPE, (), sockets["dhcp"], send, keep, lambda text: print(text, flush=True))
    print("up", flush=True)
    await asyncio.sleep(300)


asyncio.run(serve())
