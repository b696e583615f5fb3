"""Asking a router: the simulated one, on loopback, by each protocol that it speaks."""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator

import pytest

from dacha.core.errors import AnswerNo
from dacha.core.router.mapping import Mapping, MappingRequest
from dacha.host.router import finding

INSIDE, OUTSIDE, TOLD = "127.77.0.3", "127.77.0.4", "203.0.113.7"


@contextlib.contextmanager
def running(*options: str) -> Iterator[None]:
    places = ("--inside", INSIDE, "--outside", OUTSIDE, "--told", TOLD)
    command = [sys.executable, "-m", "dacha.demo.router", *places, *options]
    process = subprocess.Popen(command, stdout=subprocess.PIPE)
    assert process.stdout and b"is running" in process.stdout.readline()
    try:
        yield
    finally:
        process.terminate()
        assert process.wait(60) == 0


def free(port: int) -> bool:
    """True once an outside port of UDP is nobody's."""
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s, contextlib.suppress(OSError):
            s.bind((OUTSIDE, port))
            return True
    return False


@pytest.fixture
def service() -> Iterator[int]:
    """A UDP socket of a guest's, which answers when it is read by the test."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        s.bind(("127.0.0.1", 0))
        yield s.fileno()


@pytest.mark.parametrize("name", ["pcp", "nat-pmp"])
def test_datagrams_find_their_way_in_and_back(service: int, name: str) -> None:
    inner = socket.socket(fileno=os.dup(service))
    inner.settimeout(30)
    wanted = MappingRequest("gauge", "tides", "udp", 20123, "127.0.0.1", inner.getsockname()[1])
    with running("--speaks", name), inner:
        mapper = finding.find(INSIDE, "127.0.0.1")
        granted = mapper.map(wanted, None, 600)
        assert (mapper.name, granted.outside_port, granted.address, granted.lifetime_s) == (name, 20123, TOLD, 600)
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as peer:
            peer.settimeout(30)
            peer.sendto(b"how high?", (OUTSIDE, 20123))
            asked, back = inner.recvfrom(64)
            inner.sendto(b"0.82 m", back)
            assert asked == b"how high?" and peer.recv(64) == b"0.82 m"
        mapping = Mapping(wanted, granted.outside_port, granted.nonce, 0.0, 600.0, name)
        assert mapper.map(wanted, mapping, 600).outside_port == 20123, "renewed, it is the same"
        mapper.unmap(mapping)
        assert free(20123), "nobody has it any more"


def test_what_a_router_refuses_is_told_in_words() -> None:
    tcp = MappingRequest("gauge", "ssh", "tcp", 20124, "127.0.0.1", 22)
    with running(), socket.create_server((OUTSIDE, 20124)):
        mapper = finding.find(INSIDE, "127.0.0.1")
        assert mapper.map(tcp, None, 60).outside_port == 20125, "another port where the wished one is taken"
        with pytest.raises(AnswerNo, match="the outside port is not available"):
            mapper.map(tcp._replace(port=23, fixed=True), None, 60)
        with pytest.raises(AnswerNo, match="mappings only for the requesting host"):
            mapper.map(tcp._replace(third=True, to="127.0.0.9"), None, 60)
    with pytest.raises(AnswerNo, match="neither PCP, NAT-PMP nor UPnP"):
        finding.find(INSIDE, "127.0.0.1")
