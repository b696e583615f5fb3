"""Handouts for ten people of a lab with sixty guests, one command each, beside the bare start of the program.

Limit: ten handouts within 3 s beside what ten starts of the program cost (`dacha --version`).
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from dacha.formats.openssh import key_pair
from labs import generate, install_bytecode, verdict
from worlds import DACHA

PEOPLE, GUESTS, LIMIT_S = 10, 60, 3.0


def timed(commands: list[list[str]], folder: Path) -> float:
    env = os.environ | {
        "DACHA_STATE": f"{folder}/state",
        "DACHA_RUN": f"{folder}/run",
        "DACHA_SHARED": f"{folder}/shared",
    }
    began = time.monotonic()
    for command in commands:
        done = subprocess.run([DACHA, *command], cwd=folder, env=env, capture_output=True, text=True, check=False)
        if done.returncode:
            sys.exit(done.stderr)
    return time.monotonic() - began


def main() -> int:
    install_bytecode()
    with tempfile.TemporaryDirectory(prefix="dacha-bench-") as name:
        folder = Path(name)
        text = generate(guests=GUESTS, networks=4, doors=3, files=False)
        for n in range(PEOPLE):
            (folder / f"p{n}.pub").write_text(key_pair(bytes([n + 1]) * 32, f"p{n}@pier")[1])
            text += f'[person.p{n}]\nkeys = ["p{n}.pub"]\nenters = "all"\nfrom = "host"\nuser = "p{n}"\n'
        (folder / "lab.toml").write_text(text)
        bare = timed([["--version"]] * PEOPLE, folder)
        took = timed([["handout", "--for", f"p{n}"] for n in range(PEOPLE)], folder)
        size = sum(1 for p in folder.glob("p*-host/**/*") if p.is_file())
    print(
        f"{PEOPLE} people, {GUESTS} guests, {GUESTS * 3} doors: {size} files in {took:.1f} s; bare starts {bare:.1f} s"
    )
    return verdict(f"{took - bare:.1f} s", f"limit {LIMIT_S} s beside the starts", took - bare <= LIMIT_S)


if __name__ == "__main__":
    sys.exit(main())
