"""How fast a guest reads and writes 500 MB in a shared folder, against the same QEMU and daemon started by hand.

Limit: 0.95 x of what they do by hand (virtiofsd as root, with no namespaces of Dacha's around it).
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from dacha.demo.guest_image import guest_image
from dacha.hypervisor.beside.shares import find
from labs import install_bytecode, verdict

DACHA = str(Path(sys.executable).with_name("dacha"))
ROUNDS, MEGABYTES, LIMIT = 4, 500, 0.95
LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
memory = "256 MiB"
video = false
boot = {{ kernel = "{kernel}", initrd = "{initrd}", command-line = "{line}" }}
adapter = [{{ network = "pier", address = "10.77.4.20" }}]
login = {{ user = "ops", keys = ["id.pub"] }}
door.ssh = {{ from = "host", port = 2297 }}
share.tides = {{ folder = "tides", at = "/srv/tides" }}
"""
# Nothing of the file is in the guest's memory when it is read.
WRITE = f"dd if=/dev/zero of=/srv/tides/made bs=1M count={MEGABYTES} conv=fsync 2>/dev/null"
READ = f"dd if=/srv/tides/large of=/dev/null bs=1M count={MEGABYTES} 2>/dev/null"


class Bench:
    def __init__(self, folder: Path) -> None:
        self.folder, image = folder, guest_image()
        self.env = os.environ | {
            "DACHA_STATE": f"{folder}/state",
            "DACHA_RUN": f"{folder}/run",
            "DACHA_SHARED": f"{folder}/shared",
        }
        self.run = folder / "run/saltmarsh/gauge"
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / "id"], check=True)
        (folder / "lab.toml").write_text(LAB.format(kernel=image.kernel, initrd=image.initrd, line=image.command_line))
        (folder / "tides").mkdir(mode=0o777)
        (folder / "tides").chmod(0o777)
        with (folder / "tides/large").open("wb") as f:
            for _ in range(MEGABYTES):
                f.write(os.urandom(1 << 20))
        # The command to be typed by hand names its files: so it does where Dacha cannot become another user.
        first = ["unshare", "--map-root-user"] if os.geteuid() == 0 else []
        subprocess.run([*first, DACHA, "apply"], cwd=folder, env=self.env, capture_output=True, check=True)
        pid = int((folder / "run/saltmarsh/gauge.process").read_text())
        words = Path(f"/proc/{pid}/cmdline").read_bytes().decode().split("\0")[:-1]
        while "-add-fd" in words:
            at = words.index("-add-fd")
            words = words[:at] + words[at + 2 :]
        self.argv = [re.sub(r"/dev/fdset/\d+", str(folder / "console.log"), word) for word in words]
        seed = folder / "state/labs/saltmarsh/guests/gauge/seed.iso"
        at = next(n for n, word in enumerate(self.argv) if "node-name" in word and '"seed' in word)
        self.argv[at] = self.argv[at].replace(str(folder / "console.log"), str(seed))
        self.ssh = shlex.split(self.dacha("connect", "gauge", "--show"))
        self.dacha("stop", "gauge", "--force", "--wait", "0s")

    def dacha(self, *arguments: str) -> str:
        done = subprocess.run(
            [DACHA, *arguments], cwd=self.folder, env=self.env, capture_output=True, text=True, check=True
        )
        return done.stdout

    def measured(self) -> tuple[float, float]:
        """Megabytes a second, read and written, of the guest that is on."""
        (self.folder / "tides/made").unlink(missing_ok=True)
        until = time.monotonic() + 120
        while subprocess.run([*self.ssh, "true"], capture_output=True, check=False).returncode:
            if time.monotonic() > until:
                sys.exit("the guest lets nobody in")
            time.sleep(0.2)
        rates = []
        for command in (READ, WRITE):
            began = time.monotonic()
            subprocess.run([*self.ssh, command], check=True)
            rates.append(MEGABYTES / (time.monotonic() - began))
        return rates[0], rates[1]

    def by_dacha(self) -> tuple[float, float]:
        self.dacha("start", "gauge")
        try:
            return self.measured()
        finally:
            self.dacha("stop", "gauge", "--force", "--wait", "0s")

    def by_hand(self) -> tuple[float, float]:
        for left in self.run.iterdir():
            left.unlink()
        socket = self.run / "share-tides"
        daemon = subprocess.Popen(
            [str(find()), f"--socket-path={socket}", "-o", f"source={self.folder}/tides", "-f"],
            stderr=subprocess.DEVNULL,
        )
        while not socket.exists():
            time.sleep(0.02)
        qemu = subprocess.Popen(self.argv, cwd=self.run, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            return self.measured()
        finally:
            for process in (qemu, daemon):
                process.kill()
                process.wait()


def main() -> int:
    if os.geteuid() != 0 or find() is None:
        print("needs root, and virtiofsd (Debian 12: qemu-system-common): not measured")
        return 1
    install_bytecode()
    folder = Path(tempfile.mkdtemp(prefix="dacha-bench-"))
    folder.chmod(0o755)
    try:
        bench, pairs = Bench(folder), []
        for n in range(ROUNDS):
            # The order alternates, so that what one leaves in the caches helps the other as often.
            ways = [bench.by_dacha, bench.by_hand][:: -1 if n % 2 else 1]
            found = {way.__name__: way() for way in ways}
            pairs.append((found["by_dacha"], found["by_hand"]))
        worst = 9.0
        for k, name in enumerate(("read", "written")):
            ratio = median(d[k] / h[k] for d, h in pairs)
            worst = min(worst, ratio)
            print("  " + "  ".join(f"{d[k]:.0f}/{h[k]:.0f}" for d, h in pairs) + f" MB/s {name}, {ratio:.2f} x")
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return verdict(f"shared folder {worst:.2f} x by hand", f"limit {LIMIT:.2f} x", worst >= LIMIT)


if __name__ == "__main__":
    sys.exit(main())
