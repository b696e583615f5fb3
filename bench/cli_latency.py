"""How fast quick commands answer, as ratios to a bare interpreter that imports what any such tool needs.

Limits: `dacha --help` 1.2 x, `dacha status` and `dacha check` of a 20-guest lab 1.6 x.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from labs import generate, install_bytecode, verdict

ROUNDS = 25
BARE = [sys.executable, "-c", "import argparse, tomllib, dataclasses, ipaddress, json, pathlib"]
DACHA = str(Path(sys.executable).with_name("dacha"))


def seconds(command: list[str], env: dict[str, str], codes: tuple[int, ...]) -> float:
    began = time.perf_counter()
    done = subprocess.run(command, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False)
    took = time.perf_counter() - began
    if done.returncode not in codes:
        sys.exit(f"{command} ended with {done.returncode}: {done.stderr.decode()}")
    return took


def main() -> int:
    install_bytecode()
    with tempfile.TemporaryDirectory(prefix="dacha-bench-") as folder:
        lab = Path(folder) / "lab.toml"
        lab.write_text(generate(guests=20, networks=2, doors=3, files=False))
        env = os.environ | {"DACHA_LAB": str(lab), "DACHA_STATE": f"{folder}/state", "DACHA_RUN": f"{folder}/run"}
        commands = {"--help": 1.2, "status": 1.6, "check": 1.6}
        ratios: dict[str, list[float]] = {name: [] for name in commands}
        seconds(BARE, env, (0,))
        for name in commands:
            seconds([DACHA, name], env, (0, 1))
        # Each round times the yardstick right beside every command, so that a drifting machine cancels out.
        for _ in range(ROUNDS):
            for name in commands:
                bare = seconds(BARE, env, (0,))
                ratios[name].append(seconds([DACHA, name], env, (0, 1)) / bare)
    held = True
    for name, limit in commands.items():
        found = median(ratios[name])
        held = held and found <= limit
        print(
            f"dacha {name:<7} {found:.2f} x bare imports "
            f"(limit {limit} x; rounds {min(ratios[name]):.2f} to {max(ratios[name]):.2f})"
        )
    worst = max(median(ratios[n]) / limit for n, limit in commands.items())
    return verdict(f"worst share of its limit {worst:.2f}", "limit 1.00", held)


if __name__ == "__main__":
    sys.exit(main())
