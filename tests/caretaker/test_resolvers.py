"""This host's own name servers: followed when they change, the next asked where one cannot tell, and odd ones believed
as far as they may be."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.caretaker.test_clients import GAUGE, Client, log, serving  # noqa: F401
from tests.networks.world import PYTHON, HostedLab, until

# A name server: what it does is in the first argument, its address in the second.
SERVER = """
import socket, sys
what, where = sys.argv[1:]
info = socket.getaddrinfo(where, 53, type=socket.SOCK_DGRAM)[0]
s = socket.socket(info[0], socket.SOCK_DGRAM); s.bind(info[4])
print("up", flush=True)
while True:
    data, client = s.recvfrom(4096)
    if what == "refused":
        s.sendto(data[:2] + b"\\x80\\x05" + data[4:], client); continue
    end = data.index(b"\\0", 12) + 5
    question = data[12:end].lower() if what == "lower" else data[12:end]
    address = socket.inet_aton("198.51.100.7" if what == "lower" else "198.51.100.8")
    answer = b"\\xc0\\x0c\\0\\1\\0\\1\\0\\0\\0\\1\\0\\4" + address
    s.sendto(data[:2] + b"\\x81\\x80\\0\\1\\0\\1\\0\\0\\0\\0" + question + answer, client)
"""


@pytest.fixture
def servers(serving: HostedLab) -> Iterator[list[subprocess.Popen[bytes]]]:  # noqa: F811
    begun: list[subprocess.Popen[bytes]] = []
    for machine, what, where in (
        ("router", "refused", "192.0.2.1"), ("lan", "lower", "192.0.2.20"), ("router", "plain", "fe80::53%eth0"),
    ):  # fmt: skip
        if ":" in where:
            serving.world.run("router", "ip", "address", "add", "fe80::53/64", "dev", "eth0", "nodad")
        process = subprocess.Popen(
            serving.world.inside(machine, *PYTHON, "-c", SERVER, what, where), stdout=subprocess.PIPE
        )
        begun.append(process)
        assert process.stdout and process.stdout.readline() == b"up\n"
    yield begun
    for process in begun:
        process.kill()
        process.wait()


def test_the_hosts_name_servers_are_followed_and_the_next_is_asked(
    serving: HostedLab, servers: list[subprocess.Popen[bytes]]  # noqa: F811
) -> None:  # fmt: skip
    lab, client = serving, Client(serving, GAUGE)
    client.run("ip", "address", "add", "10.77.4.20/24", "dev", "eth0")
    # ip-netns(8) shows this file in the host's namespace: it is changed where it is.
    resolvers = Path("/etc/netns") / lab.world.name("host") / "resolv.conf"

    def told(name: str) -> str:
        return client.run("dig", "+short", "+tries=1", "+time=4", "@10.77.4.2", name, check=False).strip()

    assert "198.51.100" not in told("a.example.org")  # it refuses, and is the only one
    resolvers.write_text("nameserver 192.0.2.1\nnameserver 192.0.2.20\n")
    until(lambda: "name servers are 192.0.2.1, 192.0.2.20 now" in log(lab))
    until(lambda: told("b.example.org") == "198.51.100.7")
    resolvers.write_text("nameserver fe80::53%eth0\n")
    until(lambda: "name servers are fe80::53%" in log(lab))
    until(lambda: told("c.example.org") == "198.51.100.8")
