"""A LAN's own DHCP server for tests: `lan_dhcp.py JOURNAL` hands out 192.0.2.100 and up on eth0."""

import asyncio
import sys
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

from dacha.caretaker.dhcp import DhcpService
from dacha.caretaker.journal import Journal
from dacha.wire.dhcp4_server import Scope

ROUTER = IPv4Address("192.0.2.1")
SCOPE = Scope(
    subnet=IPv4Network("192.0.2.0/24"), server=ROUTER, router=ROUTER, name_servers=(ROUTER,), domain="example.org",
    reservations={}, dynamic=(IPv4Address("192.0.2.100"), IPv4Address("192.0.2.120")),
)  # fmt: skip


async def serve() -> None:
    DhcpService("eth0", SCOPE, Journal(Path(sys.argv[1])), lambda text: print(text, flush=True))
    print("up", flush=True)
    await asyncio.sleep(300)


asyncio.run(serve())
