"""How long a trace takes, as a share of its limits: 1 s for all hops of a guest that answers, 0.3 s for its first line
and for a guest that is paused; 8 s where a router or the guest's own process is silent.

A tiny guest on a host of its own. How long a Debian guest takes is shown by `make faults`.
"""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path
from statistics import median

from dacha.demo.guest_image import guest_image
from dacha.demo.lab import write_lab
from labs import install_bytecode, verdict
from worlds import DACHA, Pair, pair

ROUNDS, LIMIT_S, FIRST_S, WORST_S = 9, 1.0, 0.3, 8.0
DOORS = 'door.ssh = { from = "lan", port = 2220 }\ndoor.out = { service = "ssh", from = "outside", port = 2221 }\n'


def lab(folder: Path) -> None:
    """gauge of the saltmarsh lab alone, on the kernel, entered from the LAN and from outside."""
    path = write_lab(folder, guest_image())
    head, first = re.split(r"(?=\[guest\.)", path.read_text())[:2]
    head = head.replace('kind = "nat"', 'kind = "nat"\nbackend = "kernel"').replace('router = "127.77.0.1"', "")
    path.write_text(head + re.sub(r"door\.ssh = .*\n", DOORS, first))


def seconds(p: Pair, door: str, works: bool) -> float:
    began = time.perf_counter()
    said = json.loads(p.run(p.host, DACHA, "trace", "gauge", door, "--all", "--json", check=False))
    took = time.perf_counter() - began
    if said["answers"] is not works:
        sys.exit(f"door {door}: {said}")
    return took


def first_line_s(p: Pair) -> float:
    """How long the first line of a trace takes."""
    began = time.perf_counter()
    command = p.inside(p.host, DACHA, "trace", "gauge", "ssh")
    with subprocess.Popen(command, stdout=subprocess.PIPE, env=p.env, cwd=p.folder) as child:
        assert child.stdout
        child.stdout.readline()
        took = time.perf_counter() - began
        child.stdout.read()
    return took


def measure(p: Pair) -> tuple[float, float, float]:
    """The usual trace while everything answers, the first line and a guest that can answer nothing, and the longest
    while much does not answer."""
    lab(p.folder)
    p.dacha("apply")
    seconds(p, "ssh", True)
    fine = max(median(seconds(p, door, True) for _ in range(ROUNDS)) for door in ("ssh", "out"))
    print(f"everything answers: {fine:.2f} s (medians of {ROUNDS} traces of two doors, the longer)")
    soon = {"first line": median(first_line_s(p) for _ in range(ROUNDS))}
    p.dacha("pause", "gauge")
    soon["paused"] = median(seconds(p, "ssh", False) for _ in range(ROUNDS))
    p.dacha("resume", "gauge")
    for what, took in soon.items():
        print(f"{what}: {took:.2f} s")
    # A router that was asked once, and is silent now; a guest that holds still.
    p.run(p.far, "nft", "add table ip f; add chain ip f i { type filter hook input priority 0; policy drop; }")
    p.run(p.host, "ip", "neighbour", "flush", "dev", "w0")
    worst = [("router silent", seconds(p, "out", True))]
    record = next((p.folder / "state").rglob("guests/gauge/guest.json"))
    process = json.loads(record.read_text())["process"][0]
    os.kill(process, signal.SIGSTOP)
    worst.append(("guest holds still", seconds(p, "ssh", False)))
    worst.append(("guest holds still, router silent", seconds(p, "out", False)))
    os.kill(process, signal.SIGCONT)
    for what, took in worst:
        print(f"{what}: {took:.2f} s")
    return fine, max(soon.values()), max(took for _, took in worst)


def main() -> int:
    install_bytecode()
    with pair() as p:
        p.ip("-n", p.host, "address", "add", "192.0.2.10/24", "dev", "w0")
        p.ip("-n", p.far, "address", "add", "192.0.2.1/24", "dev", "w1")
        p.ip("-n", p.host, "route", "add", "default", "via", "192.0.2.1")
        p.ip("-n", p.far, "address", "add", "198.51.100.1/32", "dev", "lo")
        places = ("--inside", "192.0.2.1", "--outside", "198.51.100.1")
        router = subprocess.Popen(p.inside(p.far, sys.executable, "-m", "dacha.demo.router", *places))
        try:
            fine, soon, most = measure(p)
        finally:
            router.terminate()
            router.wait(10)
    held = fine <= LIMIT_S and soon <= FIRST_S and most <= WORST_S
    shares = (
        (fine / LIMIT_S, "1 s for all hops"),
        (soon / FIRST_S, "0.3 s for the first"),
        (most / WORST_S, "8 s at worst"),
    )
    return verdict(", ".join(f"{share:.2f} of {what}" for share, what in shares), "limit 1.00 of each", held)


if __name__ == "__main__":
    sys.exit(main())
