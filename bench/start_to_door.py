"""From `dacha start` to the SSH banner through the door, against the same QEMU command typed by hand.

Limits: one guest 1.10 x; two guests started together no slower than two by hand together (1.10 x, the noise).
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from dacha.demo.guest_image import guest_image
from dacha.demo.lab import write_lab
from dacha.host.probe.probing import probe_all
from dacha.wire.probes import probe_for
from labs import install_bytecode, verdict

DACHA = str(Path(sys.executable).with_name("dacha"))
ROUNDS = 9
LIMIT = 1.10
GUESTS = ("gauge", "charts")


class Bench:
    def __init__(self, folder: Path) -> None:
        self.folder = folder
        lab = write_lab(folder / "lab", guest_image())
        self.env = os.environ | {"DACHA_LAB": str(lab), "DACHA_STATE": f"{folder}/state", "DACHA_RUN": f"{folder}/run"}
        self.run = folder / "run" / "saltmarsh"
        # The command to be typed by hand names its files: so it does where Dacha cannot become another user.
        first = ["unshare", "--map-root-user"] if os.geteuid() == 0 else []
        subprocess.run([*first, DACHA, "apply"], env=self.env, capture_output=True, check=True)
        self.argv = {g: self.command_of(g) for g in GUESTS}
        self.ports = {g: self.port(g) for g in GUESTS}
        self.dacha("stop", "--all")

    def dacha(self, *arguments: str) -> str:
        return subprocess.run([DACHA, *arguments], env=self.env, capture_output=True, text=True, check=True).stdout

    def command_of(self, guest: str) -> list[str]:
        """The very command that a running guest was started with."""
        for entry in Path("/proc").iterdir():
            if entry.name.isdigit():
                try:
                    words = (entry / "cmdline").read_bytes().decode().split("\0")[:-1]
                except OSError:
                    continue
                if words[1:3] == ["-name", f"guest={guest}.saltmarsh"]:
                    return self._typed(words, guest)
        sys.exit(f"{guest} does not run")

    def _typed(self, words: list[str], guest: str) -> list[str]:
        """The command as a person would type it: with files by their names, and its console's record in one of them."""
        while "-add-fd" in words:
            at = words.index("-add-fd")
            words = words[:at] + words[at + 2 :]
        return [re.sub(r"/dev/fdset/\d+", str(self.folder / f"{guest}.log"), word) for word in words]

    def port(self, guest: str) -> int:
        words = next(w for w in self.argv[guest] if "hostfwd=" in w)
        return int(words.split("hostfwd=tcp:127.0.0.1:")[1].split("-")[0])

    def await_banners(self, guests: tuple[str, ...], began: float) -> float:
        """Seconds from `began` until every guest's SSH banner came through its door."""
        waiting = set(guests)
        while waiting:
            found = probe_all([(g, "127.0.0.1", self.ports[g], probe_for("ssh")) for g in waiting], 0.4)
            waiting -= {str(g) for g, v in found.items() if v.ok}
            if time.monotonic() - began > 120:
                sys.exit(f"no banner from {waiting}")
            time.sleep(0.02)
        return time.monotonic() - began

    def by_hand(self, guests: tuple[str, ...]) -> float:
        for guest in guests:
            for socket in (self.run / guest).iterdir():
                socket.unlink()
        began = time.monotonic()
        children = [
            subprocess.Popen(self.argv[g], cwd=self.run / g, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            for g in guests
        ]
        took = self.await_banners(guests, began)
        for child in children:
            child.kill()
            child.wait()
        return took

    def by_dacha(self, guests: tuple[str, ...]) -> float:
        began = time.monotonic()
        self.dacha("start", "--no-wait", *guests)
        took = self.await_banners(guests, began)
        self.dacha("stop", "--force", "--wait", "0s", *guests)
        return took


def main() -> int:
    install_bytecode()
    folder = Path(tempfile.mkdtemp(prefix="dacha-bench-"))
    worst = 0.0
    try:
        bench = Bench(folder)
        try:
            for guests in (GUESTS[:1], GUESTS):
                pairs = []
                for n in range(ROUNDS):
                    # The order alternates, so that what one leaves in the caches helps the other as often.
                    if n % 2:
                        hand = bench.by_hand(guests)
                        pairs.append((bench.by_dacha(guests), hand))
                    else:
                        pairs.append((bench.by_dacha(guests), bench.by_hand(guests)))
                ratio = median(d / h for d, h in pairs)
                worst = max(worst, ratio)
                print("  " + "  ".join(f"{d:.2f}/{h:.2f}" for d, h in pairs))
                by_dacha, by_hand = (median(p[k] for p in pairs) for k in (0, 1))
                print(f"{len(guests)} guest(s): dacha {by_dacha:.2f} s, by hand {by_hand:.2f} s, {ratio:.2f} x")
        finally:
            subprocess.run(
                [DACHA, "stop", "--all", "--force", "--wait", "0s"], env=bench.env, check=False, capture_output=True
            )
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return verdict(f"start to banner {worst:.2f} x by hand", f"limit {LIMIT:.2f} x", worst <= LIMIT)


if __name__ == "__main__":
    sys.exit(main())
