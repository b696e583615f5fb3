"""How long a trace takes, as a share of its limits: 3 s when everything answers, 8 s at the worst.

A real guest on a host of its own; the worst is tried with a guest that holds still, with whatever else is asked silent.
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

from dacha.demo.guest_image import guest_image
from dacha.demo.lab import write_lab
from labs import install_bytecode, verdict
from worlds import DACHA, Pair, pair

ROUNDS, LIMIT_S, WORST_S = 9, 3.0, 8.0
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


def measure(p: Pair) -> tuple[float, float]:
    """The longest trace while everything answers, and the longest while much does not."""
    lab(p.folder)
    p.dacha("apply")
    fine = max(seconds(p, door, True) for door in ("ssh", "out") for _ in range(ROUNDS))
    print(f"everything answers: at most {fine:.2f} s in {2 * ROUNDS} traces")
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
    return fine, max(took for _, took in worst)


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
            fine, most = measure(p)
        finally:
            router.terminate()
            router.wait(10)
    held = fine <= LIMIT_S and most <= WORST_S
    figure = f"a trace takes {fine / LIMIT_S:.2f} of its 3 s, and {most / WORST_S:.2f} of its 8 s at the worst"
    return verdict(figure, "limit 1.00 of each", held)


if __name__ == "__main__":
    sys.exit(main())
