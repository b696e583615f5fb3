"""Taking a large file into the media store, against `cp` followed by `sha256sum` of the copy.

Limits for 4 GB: 1.3 x the time, and no more memory than a file of a hundredth of its size takes.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from labs import install_bytecode, verdict

DACHA = str(Path(sys.executable).with_name("dacha"))
SIZE = int(os.environ.get("BENCH_BYTES", 4_000_000_000))
ROUNDS = 3
# Two runs of one program differ by this much for reasons of their own.
GROWTH_MB = 16


def fill(path: Path, size: int) -> None:
    """A raw disk of random bytes with a boot sector, so that it is a medium and no zeros are skipped."""
    block = bytearray(os.urandom(64 << 20))
    with path.open("wb") as f:
        done = 0
        while done < size:
            block[:8] = done.to_bytes(8, "big")
            if done == 0:
                block[510:512] = b"\x55\xaa"
            done += f.write(block[: min(len(block), size - done)])


def by_hand(source: Path, target: Path) -> float:
    began = time.monotonic()
    subprocess.run(["cp", "--reflink=never", source, target], check=True)
    subprocess.run(["sha256sum", target], check=True, stdout=subprocess.DEVNULL)
    took = time.monotonic() - began
    target.unlink()
    return took


def by_dacha(source: Path, env: dict[str, str]) -> tuple[float, float]:
    began = time.monotonic()
    child = subprocess.Popen([DACHA, "media", "add", str(source), "--name", "big"], env=env, stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(child.pid, 0)
    took = time.monotonic() - began
    if status:
        sys.exit(f"dacha media add ended with status {status}")
    subprocess.run([DACHA, "media", "remove", "big"], env=env, check=True, stdout=subprocess.DEVNULL)
    return took, used.ru_maxrss / 1000


def main() -> int:
    install_bytecode()
    folder = Path(tempfile.mkdtemp(prefix="dacha-bench-"))
    try:
        env = os.environ | {"DACHA_STATE": str(folder / "state"), "DACHA_RUN": str(folder / "run"), "DACHA_LAB": ""}
        fill(folder / "small.img", SIZE // 100 // 512 * 512)
        fill(folder / "source.img", SIZE)
        _, small = by_dacha(folder / "small.img", env)
        pairs = []
        for n in range(ROUNDS):
            # The order alternates: what one leaves in the page cache helps the other as often.
            if n % 2:
                took, memory = by_dacha(folder / "source.img", env)
                pairs.append((took, by_hand(folder / "source.img", folder / "copy.img"), memory))
            else:
                hand = by_hand(folder / "source.img", folder / "copy.img")
                took, memory = by_dacha(folder / "source.img", env)
                pairs.append((took, hand, memory))
            print(f"dacha {pairs[-1][0]:.1f} s, by hand {pairs[-1][1]:.1f} s, {pairs[-1][2]:.0f} MB")
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    ratio, growth = median(a / b for a, b, _ in pairs), max(m for _, _, m in pairs) - small
    held = ratio <= 1.3 and growth <= GROWTH_MB
    return verdict(f"{SIZE / 1e9:.1f} GB: {ratio:.2f} x, {growth:+.0f} MB", f"limit 1.30 x, +{GROWTH_MB} MB", held)


if __name__ == "__main__":
    sys.exit(main())
