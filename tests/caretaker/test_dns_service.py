"""DNS over TCP: one client cannot take every connection from the others."""

from __future__ import annotations

import asyncio
import socket
from ipaddress import ip_network

from dacha.caretaker.packets.dns import TCP_EACH_MOST, DnsService
from dacha.wire.dns.zone import Zone


def test_one_client_has_some_connections_and_not_all() -> None:
    async def tried() -> tuple[int, bytes]:
        service = DnsService(Zone("real.internal", {}, []), [ip_network("127.0.0.0/8")], forward=False)
        listening = socket.create_server(("127.0.0.1", 0))
        listening.setblocking(False)
        port = listening.getsockname()[1]
        await service.listen({"tcp 127.0.0.1": listening})
        greedy = []
        for _ in range(3 * TCP_EACH_MOST):
            greedy.append(await asyncio.open_connection("127.0.0.1", port, local_addr=("127.0.0.2", 0)))
        await asyncio.sleep(0.2)
        kept = sum(not reader.at_eof() for reader, _ in greedy)
        # Another client is answered meanwhile: a question about the lab's own zone.
        reader, writer = await asyncio.open_connection("127.0.0.1", port, local_addr=("127.0.0.3", 0))
        query = b"\0\7\1\0\0\1\0\0\0\0\0\0\4real\10internal\0\0\6\0\1"
        writer.write(len(query).to_bytes(2, "big") + query)
        said = await asyncio.wait_for(reader.readexactly(4), 20)
        for _, w in [*greedy, (reader, writer)]:
            w.close()
        service.close()
        return kept, said

    kept, said = asyncio.run(tried())
    assert kept == TCP_EACH_MOST and said[2:] == b"\0\7"
