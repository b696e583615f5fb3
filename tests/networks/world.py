"""Hosts of their own in network namespaces: this host, a machine on its LAN, a second one, a router to the outside.

lan (192.0.2.20) ---+
other (192.0.2.30) -+-- LAN 192.0.2.0/24, 2001:db8:1::/64 -- host (192.0.2.10)
router (192.0.2.1) -+-- 198.51.100.1 -- outside (198.51.100.9), a machine beyond it
"""

from __future__ import annotations

import fcntl
import itertools
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from tests.conftest import Lab, Run

_NUMBERS = itertools.count()
# Alone, as what it runs there needs nothing but the standard library.
PYTHON = (sys.executable, "-I")
MACHINES = {"host": 10, "lan": 20, "other": 30, "router": 1}


def until(true: Callable[[], Any], timeout_s: float = 120.0) -> Any:
    """What it answers once that is true; it is asked again and again, for half of the time at the most: what is waited
    for needs the processor too."""
    deadline = time.monotonic() + timeout_s
    began = time.monotonic()
    while not (found := true()):
        assert time.monotonic() < deadline
        time.sleep(max(0.1, time.monotonic() - began))
        began = time.monotonic()
    return found


class World:
    """Namespaces with a LAN between them; everything in them is gone with `close`."""

    def __init__(self) -> None:
        self.prefix = f"dt{os.getpid()}-{next(_NUMBERS)}"
        try:
            self._make()
        except BaseException:
            self.close()
            raise

    def _make(self) -> None:
        # The host's own resolver is the router; ip-netns(8) shows this file to whatever runs there.
        own = Path("/etc/netns") / self.name("host")
        own.mkdir(parents=True, exist_ok=True)
        (own / "resolv.conf").write_text("nameserver 192.0.2.1\n")
        for name in (*MACHINES, "switch"):
            self._ip("netns", "add", self.name(name))
            self.run(name, "ip", "link", "set", "lo", "up")
        self.run("switch", "ip", "link", "add", "br0", "type", "bridge", "forward_delay", "0")
        self.run("switch", "ip", "link", "set", "br0", "up")
        # In the switch nobody judges what is bridged.
        self.run("switch", "sysctl", "-qw", "net.bridge.bridge-nf-call-iptables=0")
        for name, last in MACHINES.items():
            self._ip("link", "add", "eth0", "netns", self.name(name), "type", "veth",
                     "peer", "name", name, "netns", self.name("switch"))  # fmt: skip
            self.run("switch", "ip", "link", "set", name, "master", "br0", "up")
            self.run(name, "ip", "address", "add", f"192.0.2.{last}/24", "dev", "eth0")
            self.run(name, "ip", "address", "add", f"2001:db8:1::{last:x}/64", "dev", "eth0", "nodad")
            self.run(name, "ip", "link", "set", "eth0", "up")
            if name != "router":
                self.run(name, "ip", "route", "add", "default", "via", "192.0.2.1")
                self.run(name, "ip", "-6", "route", "add", "default", "via", "2001:db8:1::1")
        self._ip("netns", "add", self.name("outside"))
        self._ip("link", "add", "eth1", "netns", self.name("router"), "type", "veth",
                 "peer", "name", "eth0", "netns", self.name("outside"))  # fmt: skip
        for name, link, last in (("router", "eth1", 1), ("outside", "eth0", 9)):
            self.run(name, "ip", "address", "add", f"198.51.100.{last}/24", "dev", link)
            self.run(name, "ip", "link", "set", link, "up")
        self.run("outside", "ip", "link", "set", "lo", "up")

    def name(self, machine: str) -> str:
        return f"{self.prefix}-{machine}"

    def _ip(self, *arguments: str) -> None:
        subprocess.run(["ip", *arguments], check=True, capture_output=True)

    def inside(self, machine: str, *command: str | Path) -> list[str]:
        """The command line that runs a command on one of the machines."""
        return ["ip", "netns", "exec", self.name(machine), *map(str, command)]

    def run(self, machine: str, *command: str | Path, check: bool = True) -> str:
        done = subprocess.run(self.inside(machine, *command), capture_output=True, text=True, check=False)
        assert not check or done.returncode == 0, done
        return done.stdout

    def reads(self, machine: str, address: str, port: int, timeout_s: float = 20.0) -> str:
        """What a service says first to a machine that connects: its line, or "refused", or "silent". A slow guest on a
        busy machine takes its time to greet; who expects silence says for how long."""
        code = (
            "import socket,sys\n"
            f"try: print(socket.create_connection(({address!r},{port}),{timeout_s}).recv(64).decode('latin-1'))\n"
            "except ConnectionRefusedError: print('refused')\n"
            "except OSError: print('silent')\n"
        )
        return self.run(machine, *PYTHON, "-c", code).strip()

    def greets(self, machine: str, address: str, port: int, within_s: float = 120.0) -> bool:
        """Whether an SSH server greets a machine that connects. It waits for a guest that is still starting: without a
        neighbour at the address the system gives up after three seconds, long before a busy host has booted a guest."""
        deadline = time.monotonic() + within_s
        while not self.reads(machine, address, port, min(20.0, within_s)).startswith("SSH-2.0-"):
            if time.monotonic() > deadline:
                return False
            time.sleep(0.2)
        return True

    def serve(self, machine: str, address: str, port: int, line: str) -> subprocess.Popen[bytes]:
        """A service on a machine that says one line to everybody, and the asker's address. Kill it after use."""
        code = (
            "import socket\n"
            f"s=socket.create_server(({address!r},{port}),family=socket.AF_INET{'6' * (':' in address)})\n"
            "print('up',flush=True)\n"
            "while True:\n c,a=s.accept()\n"
            f" c.sendall(({line!r}+' '+a[0]+'\\n').encode())\n c.close()\n"
        )
        process = subprocess.Popen(self.inside(machine, *PYTHON, "-c", code), stdout=subprocess.PIPE)
        assert process.stdout
        process.stdout.readline()
        return process

    def plug(self, machine: str, bridge: str, *settings: str) -> None:
        """Put an adapter eth9 of a machine into a bridge of the host's by hand; `settings` are ip(8)'s for it."""
        peer = ("peer", "name", "eth9", "netns", self.name(machine))
        self.run("host", "ip", "link", "add", "m0", "type", "veth", *peer)
        self.run("host", "ip", "link", "set", "m0", "master", bridge, "group", "default", "up")
        self.run(machine, "ip", "link", "set", "eth9", *settings, "up")

    def close(self) -> None:
        for name in (*MACHINES, "switch", "outside"):
            subprocess.run(["ip", "netns", "delete", self.name(name)], check=False, capture_output=True)
        shutil.rmtree(Path("/etc/netns") / self.name("host"), ignore_errors=True)


def hold(lab: Lab) -> int:
    """Stop the caretaker, which would restore at once what a test breaks; its number. Not while it holds a lock, which
    every command would wait for. SIGCONT lets it go on."""
    pid = int(lab("caretaker", "status", "--json").json["pid"])
    folder = lab.folder / "state/labs" / lab("status", "--json", code=None).json["lab"]

    def stopped() -> bool:
        os.kill(pid, signal.SIGSTOP)
        for name in ("lock", "rules.lock"):
            with (folder / name).open("a") as f:
                try:
                    fcntl.flock(f, fcntl.LOCK_EX | fcntl.LOCK_NB)
                except BlockingIOError:
                    os.kill(pid, signal.SIGCONT)
                    return False
        return True

    until(stopped)
    return pid


def begin_router(world: World, *options: str) -> subprocess.Popen[bytes]:
    """Dacha's simulated router, on the world's router."""
    places = ("--inside", "192.0.2.1", "--outside", "198.51.100.1")
    command = world.inside("router", sys.executable, "-m", "dacha.demo.router", *places, *options)
    router = subprocess.Popen(command, stdout=subprocess.PIPE)
    assert router.stdout
    assert b"is running" in router.stdout.readline()
    return router


def end_router(router: subprocess.Popen[bytes]) -> None:
    router.terminate()
    assert router.wait(60) == 0


class HostedLab(Lab):
    """A lab whose `dacha` runs on the world's host."""

    def __init__(self, folder: Path, run: Path, world: World) -> None:
        super().__init__(folder, run)
        self.world = world

    def __call__(self, *arguments: str, **options: Any) -> Run:
        return super().__call__(*arguments, prefix=self.world.inside("host"), **options)

    def without(self, prefix: list[str], *arguments: str, code: int | None = 3) -> Run:
        """`dacha` on the host behind another command that takes something away from it; by default it must refuse."""
        return super().__call__(*arguments, prefix=[*self.world.inside("host"), *prefix], code=code)
