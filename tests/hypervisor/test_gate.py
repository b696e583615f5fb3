"""The gate: what a process that asks before it connects may enter, by the rules and for real."""

from __future__ import annotations

import contextlib
import ipaddress
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from dacha.host import ask_first
from dacha.hypervisor import gate

RULES = "host tcp 3128-3130\nhost udp 514-514\nshut 10.77.4.0/24\n"
RESOLVER = ipaddress.ip_address("127.0.0.53")


@pytest.mark.parametrize(
    ("protocol", "address", "port", "own", "fine"),
    [
        ("tcp", "127.0.0.1", 22, False, False), ("tcp", "127.9.9.9", 3129, False, True),
        ("udp", "127.0.0.1", 3129, False, False), ("tcp", "0.0.0.0", 22, False, False),
        ("tcp", "::1", 22, False, False), ("tcp", "::", 22, False, False), ("tcp", "192.0.2.10", 22, True, False),
        ("tcp", "192.0.2.10", 3128, True, True), ("tcp", "192.0.2.20", 22, False, True),
        ("udp", "127.0.0.53", 53, False, True), ("tcp", "127.0.0.53", 22, False, False),
        ("udp", "127.0.0.1", 53, False, False), ("udp", "127.0.0.1", 514, False, True),
        ("tcp", "10.77.4.20", 22, False, False), ("tcp", "10.77.5.20", 22, False, True),
    ],
)  # fmt: skip
def test_what_the_rules_let_pass(protocol: str, address: str, port: int, own: bool, fine: bool) -> None:
    to = ipaddress.ip_address(address)
    assert gate.admits(RULES, protocol, to, port, own=own, resolvers={RESOLVER}) is fine


def test_the_internet_alone_and_everything() -> None:
    def admits(rules: str, address: str, own: bool = False) -> bool:
        return gate.admits(rules, "tcp", ipaddress.ip_address(address), 80, own=own, resolvers=set())

    assert not admits("internet\n", "192.168.1.1") and not admits("internet\n", "fd00::1")
    assert admits("internet\n", "198.51.100.9") and admits("", "192.168.1.1")
    assert admits("host all\n", "127.0.0.1") and admits("internet\nhost all\n", "192.168.1.1", own=True)


def test_an_address_is_read_from_what_a_call_was_given() -> None:
    four = socket.AF_INET.to_bytes(2, sys.byteorder) + (22).to_bytes(2, "big") + bytes([127, 0, 0, 1]) + bytes(8)
    assert gate.destination(four) == (ipaddress.ip_address("127.0.0.1"), 22)
    mapped = ipaddress.ip_address("::ffff:127.0.0.1").packed
    six = socket.AF_INET6.to_bytes(2, sys.byteorder) + (22).to_bytes(2, "big") + bytes(4) + mapped + bytes(4)
    assert gate.destination(six) == (ipaddress.ip_address("127.0.0.1"), 22)
    assert (
        gate.destination(socket.AF_UNIX.to_bytes(2, sys.byteorder) + b"/run/x") is None
        and gate.destination(four[:6]) is None
    )


def test_this_hosts_own_addresses_are_told_without_sending() -> None:
    assert gate.own(ipaddress.ip_address("127.0.0.1")) and not gate.own(ipaddress.ip_address("198.51.100.200"))


@contextlib.contextmanager
def asking(tmp_path: Path, code: str) -> Iterator[tuple[subprocess.Popen[str], subprocess.Popen[bytes], Path]]:
    """A Python process that asks, the gate that answers it, and the file of its rules."""
    rules = tmp_path / "rules"
    rules.write_text("")
    mine, its = socket.socketpair()
    with mine, its, rules.open("rb") as file:
        command = [sys.executable, "-I", "-S", gate.__file__, str(its.fileno()), str(file.fileno())]
        keeper = subprocess.Popen(command, pass_fds=(its.fileno(), file.fileno()))
        its.close()
        child = subprocess.Popen(
            [sys.executable, "-u", "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
            preexec_fn=lambda: ask_first.ask(mine.fileno(), keeper.pid),
        )  # fmt: skip
    try:
        yield child, keeper, rules
    finally:
        child.kill()
        child.wait()
        assert keeper.wait(60) is not None, "it ends with its guest"


CONNECTS = """
import errno, socket, sys
for line in sys.stdin:
    kind, address, port = line.split()
    family = socket.AF_UNIX if kind == "unix" else socket.AF_INET6 if ":" in address else socket.AF_INET
    s = socket.socket(family, socket.SOCK_DGRAM if kind == "udp" else socket.SOCK_STREAM)
    try:
        if kind == "udp": s.sendto(b"x", (address, int(port)))
        else: s.connect(address if kind == "unix" else (address, int(port)))
        print("open")
    except OSError as e: print(errno.errorcode[e.errno])
"""


def test_a_real_process_is_kept_from_the_loopback(tmp_path: Path) -> None:
    assert ask_first.missing() == ""
    with (
        socket.create_server(("127.0.0.1", 0)) as here,
        socket.socket(socket.AF_UNIX) as local,
        asking(tmp_path, CONNECTS) as (child, keeper, rules),
    ):
        port = here.getsockname()[1]
        local.bind(str(tmp_path / "local"))
        local.listen()

        def tried(kind: str, address: object, to: int = port) -> str:
            assert child.stdin and child.stdout
            print(kind, address, to, file=child.stdin, flush=True)
            return child.stdout.readline().strip()

        assert (
            tried("tcp", "127.0.0.1") == tried("tcp", "0.0.0.0") == tried("tcp", "::ffff:127.0.0.1") == "ECONNREFUSED"
        )
        assert tried("udp", "127.0.0.1") == "ECONNREFUSED" and tried("unix", tmp_path / "local") == "open"
        rules.write_text(f"host tcp {port}-{port}\n")
        deadline = time.monotonic() + 120
        while tried("tcp", "127.0.0.1") != "open":
            time.sleep(0.1)  # its backlog is short, and the rules are read once a second
            assert time.monotonic() < deadline, "rules hold for a process that runs"
        rules.write_text("nonsense\nhost tcp x\n")
        while tried("tcp", "127.0.0.1") != "EACCES":
            time.sleep(0.1)
            assert time.monotonic() < deadline, "rules that nobody can read open nothing"
        os.kill(keeper.pid, signal.SIGKILL)
        keeper.wait()
        assert tried("tcp", "127.0.0.1") == "ENOSYS", "without it nothing leaves"
