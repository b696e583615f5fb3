"""`reach` of a large lab beside `check` of the same one: 1,000 guests, 50 networks, 3,000 doors. Limit: 2 x."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from labs import generate, install_bytecode, verdict

DACHA = str(Path(sys.executable).with_name("dacha"))
ROUNDS, LIMIT = 7, 2.0


def seconds(env: dict[str, str], *arguments: str) -> float:
    began = time.perf_counter()
    done = subprocess.run([DACHA, *arguments], env=env, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False)
    if done.returncode not in (0, 1):
        sys.exit(f"dacha {arguments} ended with {done.returncode}: {done.stderr.decode()}")
    return time.perf_counter() - began


def main() -> int:
    install_bytecode()
    worst = 0.0
    with tempfile.TemporaryDirectory(prefix="dacha-bench-") as folder:
        lab = Path(folder) / "lab.toml"
        for backend in ("user", "kernel"):
            text = generate(guests=1000, networks=50, doors=3)
            lab.write_text(text.replace('kind = "nat"\n', f'kind = "nat"\nbackend = "{backend}"\n'))
            env = os.environ | {"DACHA_LAB": str(lab), "DACHA_STATE": f"{folder}/state", "DACHA_RUN": f"{folder}/run"}
            for arguments in (["reach"], ["reach", "--json"]):
                seconds(env, "check"), seconds(env, *arguments)
                rounds = [(seconds(env, "check"), seconds(env, *arguments)) for _ in range(ROUNDS)]
                ratio = median(r / c for c, r in rounds)
                worst = max(worst, ratio)
                least = " and ".join(f"{min(x):.2f} s" for x in zip(*rounds, strict=True))
                print(f"{backend:<6} {' '.join(arguments):<12} {ratio:.2f} x check (least {least})")
    return verdict(f"reach at most {worst:.2f} x check", f"limit {LIMIT:.1f} x", worst <= LIMIT)


if __name__ == "__main__":
    sys.exit(main())
