"""Connections that arrive while no file is accessible."""

from __future__ import annotations

import asyncio
import os
import resource
import socket

from dacha.caretaker.packets.accepting import take_each, take_no_more


class _Counted(socket.socket):
    asked = 0

    def accept(self) -> tuple[socket.socket, tuple[str, int]]:
        self.asked += 1
        return super().accept()


def test_a_connection_that_cannot_be_opened_waits_and_is_not_asked_for_without_end() -> None:
    async def connects() -> tuple[int, str]:
        taken: asyncio.Queue[str] = asyncio.Queue()

        def take(connection: socket.socket, peer: str) -> None:
            connection.close()
            taken.put_nowait(peer)

        with _Counted() as listening, socket.socket() as client:
            listening.setblocking(False)
            listening.bind(("127.0.0.1", 0))
            listening.listen()
            take_each(listening, take)
            usual = resource.getrlimit(resource.RLIMIT_NOFILE)
            free = os.dup(client.fileno())
            os.close(free)
            resource.setrlimit(resource.RLIMIT_NOFILE, (free, usual[1]))
            try:
                client.connect(listening.getsockname())
                for _ in range(100):
                    await asyncio.sleep(0)
                refused = listening.asked
            finally:
                resource.setrlimit(resource.RLIMIT_NOFILE, usual)
            peer = await asyncio.wait_for(taken.get(), 60)
            take_no_more(listening)
            assert listening.fileno() == -1
        return refused, peer

    refused, peer = asyncio.run(connects())
    assert 1 <= refused < 10 and peer == "127.0.0.1"
