"""Network namespaces for the benches: a host with a lab's kernel network, and a machine on the other end of a wire."""

from __future__ import annotations

import ctypes
import os
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

DACHA = str(Path(sys.executable).with_name("dacha"))


def listen_in(namespace: str) -> socket.socket:
    """A TCP server's socket on all addresses of a network namespace, its port chosen by the kernel."""
    made: list[socket.socket] = []

    def inside() -> None:
        # This thread alone goes there (setns(2)); a socket stays where it was made.
        with open(f"/run/netns/{namespace}") as opened:
            if ctypes.CDLL(None, use_errno=True).setns(opened.fileno(), 0x40000000):
                return
        made.append(socket.create_server(("0.0.0.0", 0)))

    thread = threading.Thread(target=inside)
    thread.start()
    thread.join()
    if not made:
        sys.exit(f"cannot go into the network namespace {namespace}")
    return made[0]


class Pair:
    """Two namespaces, `host` and `far`, with a veth between them that is not yet configured."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.host, self.far = (f"db{os.getpid()}-{n}" for n in ("host", "far"))
        self.env = os.environ | {"DACHA_STATE": f"{folder}/state", "DACHA_RUN": f"{folder}/run"}
        for name in (self.host, self.far):
            self.ip("netns", "add", name)
            self.ip("-n", name, "link", "set", "lo", "up")
        self.ip("link", "add", "w0", "netns", self.host, "type", "veth", "peer", "name", "w1", "netns", self.far)
        for name, link in ((self.host, "w0"), (self.far, "w1")):
            self.ip("-n", name, "link", "set", link, "up")

    def ip(self, *words: str) -> None:
        subprocess.run(["ip", *words], check=True)

    def inside(self, name: str, *command: str | Path) -> list[str]:
        return ["ip", "netns", "exec", name, *map(str, command)]

    def run(self, name: str, *command: str | Path, check: bool = True, **options: object) -> str:
        done = subprocess.run(
            self.inside(name, *command), env=self.env, cwd=self.folder, text=True, check=False, capture_output=True,
            **options,  # type: ignore[call-overload]
        )  # fmt: skip
        if check and done.returncode:
            sys.exit(f"{command}: {done.stderr or done.stdout}")
        return done.stdout + done.stderr

    def listen(self) -> socket.socket:
        """A TCP server's socket on all of the host's addresses, its port chosen by the kernel."""
        return listen_in(self.host)

    def attach(self, address: str, gateway: str, bridge: str) -> str:
        """A machine on one of the host's bridges; its namespace. It goes with the others."""
        name = f"{self.host}-guest"
        self.ip("netns", "add", name)
        self.ip("link", "add", "g0", "netns", self.host, "type", "veth", "peer", "name", "g1", "netns", name)
        self.ip("-n", self.host, "link", "set", "g0", "master", bridge, "up")
        for words in (("link", "set", "g1", "up"), ("address", "add", address, "dev", "g1"),
                      ("route", "add", "default", "via", gateway)):  # fmt: skip
            self.ip("-n", name, *words)
        return name

    def load_rules(self) -> None:
        """The rules of lab.toml as they should be now: a port that was plugged in by hand passes with them alone."""
        code = (
            "from dacha.engine.network import rules\nfrom dacha.engine.workspace import load\n"
            "ws = load('lab.toml'); rules.load(ws, ws.plan)"
        )
        self.run(self.host, sys.executable, "-c", code)

    def dacha(self, *arguments: str) -> str:
        return self.run(self.host, DACHA, *arguments)


@contextmanager
def pair() -> Iterator[Pair]:
    """A pair of namespaces; whatever Dacha made in them is ended and gone afterwards."""
    with tempfile.TemporaryDirectory(prefix="dacha-bench-") as name:
        made = Pair(Path(name))
        try:
            yield made
        finally:
            made.run(made.host, DACHA, "caretaker", "stop", check=False)
            made.run(made.host, DACHA, "stop", "--all", "--force", "--wait", "0s", check=False)
            for namespace in (made.host, made.far, f"{made.host}-guest"):
                subprocess.run(["ip", "netns", "delete", namespace], check=False, capture_output=True)
