"""`status` of large labs whose guests are all on, as ratios to one start of Python that does nothing.

The guests are played by this process: it holds their locks, answers their monitors and greets at their doors, so that
nothing but `status` is measured. Limits: 40 guests with 100 doors 25 x (0.5 s here), 400 with 4,000 doors 100 x (2 s).
"""

from __future__ import annotations

import fcntl
import json
import os
import resource
import selectors
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median
from threading import Thread

from dacha.hypervisor.command_line import WATCH
from labs import generate, install_bytecode, verdict

DACHA = str(Path(sys.executable).with_name("dacha"))
ROUNDS = 5
LIMITS = {(40, 100): 25.0, (400, 4000): 100.0}


class StandIn:
    """One guest: its process's lock, its monitor, its doors."""

    def __init__(self, name: str, home: Path, run: Path, address: str, ports: list[int]) -> None:
        self.name = name
        rows = (f"  TCP[HOST_FORWARD]  9  127.0.0.1 {port}  {address} 22  0  0" for port in ports)
        self.forwards = "VLAN -1 (net0):\r\n  header\r\n" + "\r\n".join(rows) + "\r\n"
        home.mkdir(parents=True)
        run.mkdir(parents=True)
        self.lock = os.open(home / "process.lock", os.O_CREAT | os.O_RDWR, 0o600)
        fcntl.flock(self.lock, fcntl.LOCK_EX)
        self.monitor = socket.socket(socket.AF_UNIX)
        self.monitor.bind(str(run / WATCH))
        self.monitor.listen(64)
        self.doors = [socket.create_server(("127.0.0.1", port), backlog=64) for port in ports]

    def answer(self, line: bytes) -> bytes:
        asked = json.loads(line)
        answers = {
            "query-name": {"name": f"{self.name}.generated"},
            "query-status": {"status": "running"},
            "human-monitor-command": self.forwards,
        }
        return json.dumps({"return": answers.get(asked["execute"], {}), "id": asked.get("id")}).encode() + b"\r\n"


GREETING = b'{"QMP": {"version": {"qemu": {"micro": 0, "minor": 2, "major": 7}}, "capabilities": []}}\r\n'


def play(guests: list[StandIn]) -> None:
    """Serve them all until this process ends."""
    selector = selectors.DefaultSelector()

    def monitor(guest: StandIn) -> Callable[[], None]:
        def accept() -> None:
            s, _ = guest.monitor.accept()
            s.sendall(GREETING)
            rest = b""

            def read() -> None:
                nonlocal rest
                data = s.recv(65536)
                if not data:
                    selector.unregister(s)
                    s.close()
                    return
                *lines, rest = (rest + data).split(b"\n")
                for line in lines:
                    if line.strip():
                        s.sendall(guest.answer(line))

            selector.register(s, selectors.EVENT_READ, read)

        return accept

    def greeter(door: socket.socket) -> Callable[[], None]:
        def accept() -> None:
            s, _ = door.accept()
            s.sendall(b"SSH-2.0-standin\r\n")
            s.close()

        return accept

    for guest in guests:
        selector.register(guest.monitor, selectors.EVENT_READ, monitor(guest))
        for door in guest.doors:
            selector.register(door, selectors.EVENT_READ, greeter(door))
    while True:
        for entry, _ in selector.select():
            entry.data()


def lab_text(guests: int, doors: int) -> str:
    """A lab whose guests have the doors between them, each on a port of its own."""
    lines, port, g = [], 20000, 0
    for line in generate(guests=guests, networks=max(1, guests // 20), doors=1, files=False).splitlines():
        if line.startswith("door."):
            mine = doors * (g + 1) // guests - doors * g // guests
            lines += [f'door.d{k} = {{ service = "ssh", from = "host", port = {port + k} }}' for k in range(mine)]
            port, g = port + mine, g + 1
        else:
            lines.append(line.replace('system = "debian"', "first-boot = false"))
    return "\n".join(lines)


def usual_limit() -> None:
    """As many open files as a shell gives."""
    resource.setrlimit(resource.RLIMIT_NOFILE, (1024, resource.getrlimit(resource.RLIMIT_NOFILE)[1]))


def nothing_s() -> float:
    began = time.perf_counter()
    subprocess.run([sys.executable, "-I", "-c", ""], check=True)
    return time.perf_counter() - began


def measure(folder: Path, guests: int, doors: int) -> float:
    lab = folder / "lab.toml"
    lab.write_text(lab_text(guests, doors))
    state, run = folder / "state", folder / "run"
    env = os.environ | {"DACHA_LAB": str(lab), "DACHA_STATE": str(state), "DACHA_RUN": str(run)}
    found = subprocess.run(
        [DACHA, "guest", "list", "--json"], env=env, check=True, capture_output=True, text=True
    ).stdout
    ports: dict[str, list[int]] = {}
    port = 20000
    for g in range(guests):
        mine = doors * (g + 1) // guests - doors * g // guests
        ports[f"guest{g}"], port = list(range(port, port + mine)), port + mine
    addresses = {g["name"]: g["adapters"][0]["address"] for g in json.loads(found)["guests"]}
    played = [
        StandIn(name, state / "labs/generated/guests" / name, run / "generated" / name, addresses[name], mine)
        for name, mine in ports.items()
    ]
    child = os.fork()
    if not child:
        # They are played by a process of its own: a thread would share this one's processor time with the measuring.
        try:
            Thread(target=play, args=(played,), daemon=True).start()
            time.sleep(600)
        finally:
            os._exit(0)
    try:
        ratios, open_doors = [], 0
        for n in range(ROUNDS + 1):
            nothing = nothing_s()
            began = time.perf_counter()
            out = subprocess.run(
                [DACHA, "status"], env=env, capture_output=True, text=True, check=False, preexec_fn=usual_limit
            ).stdout
            took = time.perf_counter() - began
            open_doors = sum(line.rstrip().endswith("open") for line in out.splitlines())
            if n:
                ratios.append(took / nothing)
                print(f"{guests:>4} guests on, {open_doors:>5} doors open: {took:.2f} s, {took / nothing:.0f} x")
        if open_doors != doors:
            sys.exit(f"only {open_doors} of {doors} doors were seen to be open:\n{out[:2000]}")
        return median(ratios)
    finally:
        os.kill(child, 9)
        os.waitpid(child, 0)
        for guest in played:
            os.close(guest.lock)
            for s in (guest.monitor, *guest.doors):
                s.close()


def main() -> int:
    install_bytecode()
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    # The stand-ins alone need thousands; what is measured has the usual limit.
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(hard, 16384), hard))
    held, figures = True, []
    for (guests, doors), limit in LIMITS.items():
        with tempfile.TemporaryDirectory(prefix="dacha-bench-") as folder:
            ratio = measure(Path(folder), guests, doors)
        held &= ratio <= limit
        figures.append(f"{ratio:.0f} x (limit {limit:.0f} x)")
    return verdict(", ".join(figures), "limits 25 x and 100 x one start of Python", held)


if __name__ == "__main__":
    sys.exit(main())
