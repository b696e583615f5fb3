"""`check` and `diff` of large labs, as ratios to parsing the same file with tomllib, and their memory.

Limits for 1,000 guests, 50 networks, 3,000 doors: 20 x, 200 MB, and linear growth from 250 to 1,000 guests.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
import tomllib
from pathlib import Path
from statistics import median

from labs import generate, install_bytecode, verdict

DACHA = str(Path(sys.executable).with_name("dacha"))
ROUNDS = 5
# Linear growth has a constant ratio of time to size; process start and noise may bend it by this much.
BEND = 1.35


def parse_seconds(text: str) -> float:
    began = time.perf_counter()
    tomllib.loads(text)
    return time.perf_counter() - began


def run(command: str, env: dict[str, str]) -> tuple[float, float]:
    """Seconds and peak megabytes of one command."""
    began = time.perf_counter()
    child = subprocess.Popen([DACHA, command], env=env, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    _, status, used = os.wait4(child.pid, 0)
    took = time.perf_counter() - began
    if os.waitstatus_to_exitcode(status) not in (0, 1):
        sys.exit(f"dacha {command} ended with status {status}: {child.stderr.read().decode() if child.stderr else ''}")
    return took, used.ru_maxrss / 1000


def main() -> int:
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    worst, most_memory, per_guest = 0.0, 0.0, {}
    install_bytecode()
    with tempfile.TemporaryDirectory(prefix="dacha-bench-") as folder:
        for guests in (250, 500, 1000):
            text = generate(guests=guests, networks=guests // 20, doors=3)
            lab = Path(folder) / f"lab{guests}.toml"
            lab.write_text(text)
            env = os.environ | {"DACHA_LAB": str(lab), "DACHA_STATE": f"{folder}/state", "DACHA_RUN": f"{folder}/run"}
            for command in ("check", "diff"):
                run(command, env)
                rounds = [(parse_seconds(text), *run(command, env)) for _ in range(ROUNDS)]
                ratio = median(took / parse for parse, took, _ in rounds)
                memory = max(m for _, _, m in rounds)
                per_guest[command, guests] = min(took for _, took, _ in rounds) / guests
                print(
                    f"{command:<6} {guests:>5} guests {guests * 3:>5} doors {len(text) // 1000:>4} kB: parse "
                    f"{median(p for p, _, _ in rounds) * 1000:>4.0f} ms, {command} "
                    f"{median(t for _, t, _ in rounds) * 1000:>5.0f} ms, {ratio:>4.1f} x, {memory:.0f} MB"
                )
                if guests == 1000:
                    worst, most_memory = max(worst, ratio), max(most_memory, memory)
    bend = max(per_guest[c, 1000] / per_guest[c, 500] for c in ("check", "diff"))
    print(f"time a guest, 1000 against 500: {bend:.2f} x (linear within {BEND})")
    held = worst <= 20 and most_memory < 200 and bend <= BEND
    return verdict(f"{worst:.1f} x parsing, {most_memory:.0f} MB", "limit 20 x, 200 MB, linear", held)


if __name__ == "__main__":
    sys.exit(main())
