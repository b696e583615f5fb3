"""Ten guests cloned from one base image: the time until each is ready to start, and the disk that they use together.

Limits: 1 s a guest; no more disk than what differs, which for clones never started is each image's own tables.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from labs import install_bytecode, verdict

DACHA = str(Path(sys.executable).with_name("dacha"))
GUESTS = 10
LIMIT_S = 1.0
# What an empty overlay of this size takes, by QEMU's own tool; the clones may not take more.
BASE_BYTES = 256 << 20


def main() -> int:
    install_bytecode()
    with tempfile.TemporaryDirectory(prefix="dacha-bench-") as name:
        folder = Path(name)
        env = os.environ | {"DACHA_STATE": f"{folder}/state", "DACHA_RUN": f"{folder}/run"}
        base = folder / "base.raw"
        base.write_bytes(b"\0" * 510 + b"\x55\xaa" + os.urandom(BASE_BYTES - 512))
        lines = ["[lab]", 'name = "clones"', "[network.pier]", 'kind = "nat"', 'subnet = "10.77.4.0/24"']
        for n in range(GUESTS):
            lines += [f"[guest.gauge{n}]", 'memory = "64 MiB"', 'disk = [{ from = "base.raw", size = "8 GiB" }]',
                      f'adapter = [{{ network = "pier", address = "10.77.4.{10 + n}" }}]']  # fmt: skip
        (folder / "lab.toml").write_text("\n".join(lines) + "\n")

        def dacha(*arguments: str) -> None:
            subprocess.run([DACHA, *arguments], cwd=folder, env=env, check=True, capture_output=True)

        # They are noted as left off first, so that what is timed makes them ready, and starts none.
        dacha("apply", "--no-wait")
        dacha("stop", "--all", "--force", "--wait", "0s")
        guests = folder / "state/labs/clones/guests"
        for path in [*guests.glob("*/disk-0.qcow2"), *guests.glob("*/seed.iso"), *guests.glob("*/host_key*")]:
            path.unlink()
        began = time.monotonic()
        dacha("apply", "--no-wait")
        each = (time.monotonic() - began) / GUESTS
        disks = list(guests.glob("*/disk-0.qcow2"))
        used = sum(p.stat().st_blocks * 512 for p in disks)
        empty = folder / "empty.qcow2"
        command = ["qemu-img", "create", "-q", "-f", "qcow2", "-b", base, "-F", "raw", empty, "8G"]
        subprocess.run(command, check=True)
        alone = empty.stat().st_blocks * 512
    figure = (
        f"{GUESTS} clones: {each:.2f} s each, {used / 1024:.0f} KiB together ({alone / 1024:.0f} KiB an empty overlay)"
    )
    return verdict(
        figure,
        f"limit {LIMIT_S:.0f} s, {GUESTS} overlays",
        len(disks) == GUESTS and each <= LIMIT_S and used <= GUESTS * alone,
    )


sys.exit(main())
