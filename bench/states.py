"""Saved states, snapshots, copies and archives against what the hypervisor and the compressor need by themselves.

Limits: SSH answers 0.5 s after `dacha start` of a saved guest; a snapshot stops a running guest for less than
0.2 s; a copy of a 10 GiB disk takes 1.2 x of creating an overlay, and an archive 1.2 x of the compressor, beside the
time of a command that does nothing; both in less than 64 MiB.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median
from typing import Any

from dacha.demo.guest_image import guest_image
from dacha.demo.lab import write_lab
from labs import install_bytecode, verdict

DACHA = str(Path(sys.executable).with_name("dacha"))
ROUNDS = int(os.environ.get("DACHA_ROUNDS", "7"))
GIB = 1 << 30


class Bench:
    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.file = write_lab(folder / "lab", guest_image())
        self.env = os.environ | {
            "DACHA_LAB": str(self.file), "DACHA_STATE": f"{folder}/state", "DACHA_RUN": f"{folder}/run",
            "DACHA_SHARED": f"{folder}/shared",
        }  # fmt: skip

    def dacha(self, *arguments: str) -> str:
        done = subprocess.run([DACHA, *arguments], env=self.env, capture_output=True, text=True, check=False)
        assert done.returncode in (0, 1), done
        return done.stdout

    def port(self, guest: str) -> int:
        listed = json.loads(self.dacha("guest", "list", "--json"))["guests"]
        return int(next(d["port"] for g in listed for d in g["doors"] if g["name"] == guest and d["name"] == "ssh"))

    def disk(self, guest: str) -> Path:
        return self.folder / f"state/labs/saltmarsh/guests/{guest}/disk-0.qcow2"


def holds(figure: str, value: float, limit: float) -> bool:
    return verdict(f"{figure}: {value:.2f}", f"limit {limit}", value <= limit) == 0


def timed(act: Callable[[], Any]) -> float:
    began = time.monotonic()
    act()
    return time.monotonic() - began


def greeted(port: int, timeout_s: float = 60.0) -> None:
    """Wait until the SSH server behind a port greets."""
    deadline = time.monotonic() + timeout_s
    while time.monotonic() < deadline:
        try:
            with socket.create_connection(("127.0.0.1", port), 1.0) as s:
                # QEMU accepts before its guest runs: what is lost then is only sent again after a second.
                s.settimeout(0.3)
                if s.recv(4) == b"SSH-":
                    return
        except OSError:
            time.sleep(0.005)
    raise SystemExit("nothing answers")


def saved(bench: Bench) -> bool:
    """From `dacha start` of a saved guest to its SSH server's greeting; and from the bare hypervisor, which reads the
    same memory into the same machine."""
    port = bench.port("gauge")
    times = []
    for _ in range(ROUNDS):
        bench.dacha("pause", "gauge", "--save")
        began = time.monotonic()
        command = subprocess.Popen([DACHA, "start", "gauge", "--no-wait"], env=bench.env, stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL)  # fmt: skip
        greeted(port)
        times.append(time.monotonic() - began)
        command.wait()
    bare = timed_bare(bench, port)
    print(
        f"  SSH after start of a saved guest: {median(times):.2f} s; the bare hypervisor runs again after {bare:.2f} s"
    )
    return holds("SSH after start of a saved guest, in seconds", median(times), 0.5)


def timed_bare(bench: Bench, port: int) -> float:
    """The bare hypervisor: QEMU with the command line that Dacha used, started on the saved memory by hand."""
    # With the guest's own process, whose argv names descriptors, this cannot be typed: an equal machine without disk.
    from dacha.demo.guest_image import guest_image as made

    image = made()
    folder = bench.folder / "bare"
    folder.mkdir(exist_ok=True)
    base = [
        "qemu-system-x86_64", "-machine", "q35", "-accel", "tcg,thread=multi", "-cpu", "max", "-m", "128M",
        "-nodefaults", "-display", "none", "-kernel", str(image.kernel), "-initrd", str(image.initrd), "-serial",
        "null", "-append", image.command_line, "-netdev", f"user,id=n0,hostfwd=tcp:127.0.0.1:{port + 1000}-:22",
        "-device", "virtio-net-pci,netdev=n0,romfile=",
    ]  # fmt: skip
    from dacha.hypervisor.monitor import memory
    from dacha.hypervisor.monitor.qmp import Qmp

    def monitor(n: int) -> list[str]:
        return ["-chardev", f"socket,id=m,path={folder}/m{n},server=on,wait=off", "-mon", "chardev=m,mode=control"]

    first = subprocess.Popen([*base, *monitor(0)])
    time.sleep(8)
    with (folder / "memory").open("w+b") as f, Qmp(folder / "m0", timeout_s=30.0) as qmp:
        qmp.execute("stop")
        memory.write(qmp, f.fileno(), lambda share: None)
        qmp.execute("quit")
    first.wait()
    times = []
    for n in range(1, ROUNDS + 1):
        began = time.monotonic()
        child = subprocess.Popen([*base, *monitor(n), "-S", "-incoming", "defer"])
        while not (folder / f"m{n}").exists():
            time.sleep(0.002)
        with (folder / "memory").open("rb") as f, Qmp(folder / f"m{n}", timeout_s=30.0) as qmp:
            memory.read(qmp, f.fileno(), lambda share: None)
            qmp.execute("cont")
            times.append(time.monotonic() - began)
            qmp.execute("quit")
        child.wait()
    return median(times)


def snapshots(bench: Bench) -> bool:
    """How long a snapshot without memory stops a running guest."""
    stops = []
    for n in range(ROUNDS):
        out = bench.dacha("snapshot", "add", f"s{n}", "gauge")
        stops.append(int(re.findall(r"stopped for (\d+) ms", out)[0]) / 1000)
    for n in range(ROUNDS):
        bench.dacha("snapshot", "remove", f"s{n}", "gauge")
    print(f"  a running guest is stopped for {median(stops) * 1000:.0f} ms, at most {max(stops) * 1000:.0f} ms")
    return holds("a snapshot's pause, in seconds", max(stops), 0.2)


def copies(bench: Bench) -> bool:
    """A copy of a 10 GiB disk with 1 GiB in it, against the overlay by hand and against reading what is in it."""
    bench.dacha("guest", "add", "big", "--disk", "10GiB", "--memory", "64MiB")
    bench.dacha("apply", "--no-wait")
    bench.dacha("stop", "big", "--force", "--wait", "0s")
    disk = bench.disk("big")
    fill = bench.folder / "fill"
    with fill.open("wb") as f:
        # Half of it can be compressed, as on a real disk.
        for _ in range(GIB >> 21):
            f.write(os.urandom(1 << 20) + b"tide" * (1 << 18))
    subprocess.run(["qemu-io", "-c", f"write -s {fill} 0 1G", disk], check=True, capture_output=True)
    empty = timed(lambda: bench.dacha("guest", "list"))
    by_hand = bench.folder / "overlay.qcow2"
    overlay = timed(
        lambda: subprocess.run(
            ["qemu-img", "create", "-q", "-f", "qcow2", "-b", disk, "-F", "qcow2", by_hand], check=True
        )
    )
    whole = timed(
        lambda: subprocess.run(["qemu-img", "convert", "-O", "qcow2", disk, bench.folder / "x.qcow2"], check=True)
    )
    (bench.folder / "x.qcow2").unlink()
    copied = timed(lambda: bench.dacha("guest", "copy", "big", "twin"))
    bench.dacha("guest", "remove", "twin")
    print(f"  guest copy: {copied:.2f} s; a command that lists: {empty:.2f} s; the bare overlay: {overlay:.2f} s; "
          f"qemu-img convert: {whole:.2f} s")  # fmt: skip
    return holds("guest copy against qemu-img convert", (copied - empty) / whole, 1.2)


def archives(bench: Bench) -> bool:
    """Saving and loading that disk, against the compressor alone."""
    import zstandard

    fill, packed = bench.folder / "fill", bench.folder / "packed"

    def compress() -> None:
        packer = zstandard.ZstdCompressor(level=3, write_checksum=True)
        with fill.open("rb") as f, packed.open("wb") as out:
            while data := f.read(4 << 20):
                out.write(packer.compress(data))
            out.flush()
            os.fsync(out.fileno())

    alone = timed(compress)
    file = bench.folder / "big.guest"
    done = subprocess.Popen([DACHA, "guest", "save", "big", file], env=bench.env, stdout=subprocess.DEVNULL)
    began = time.monotonic()
    _, _, used = os.wait4(done.pid, 0)
    saving = time.monotonic() - began
    load = subprocess.Popen([DACHA, "guest", "load", file, "again"], env=bench.env, stdout=subprocess.DEVNULL)
    began = time.monotonic()
    _, _, loaded = os.wait4(load.pid, 0)
    loading = time.monotonic() - began
    print(f"  guest save: {saving:.2f} s, {used.ru_maxrss // 1024} MiB; guest load: {loading:.2f} s; the compressor "
          f"alone: {alone:.2f} s; {file.stat().st_size >> 20} MiB")  # fmt: skip
    sound = holds("guest save against the compressor", saving / alone, 1.2)
    sound = holds("guest load against the compressor", loading / alone, 1.2) and sound
    sound = holds("guest load's memory, in MiB", loaded.ru_maxrss / 1024, 64.0) and sound
    return holds("guest save's memory, in MiB", used.ru_maxrss / 1024, 64.0) and sound


def collector(bench: Bench) -> bool:
    """The processor time of one round of measurements of 40 running guests, every 15 s."""
    folder = bench.folder / "forty"
    folder.mkdir()
    guest = '[guest.g{}]\nmemory = "16 MiB"\nvideo = false\ndisk = [{{ size = "1 MiB" }}]\nstop-after = "0 s"\n'
    (folder / "lab.toml").write_text('[lab]\nname = "forty"\n' + "".join(guest.format(n) for n in range(40)))
    at = str(folder / "lab.toml")
    bench.dacha("apply", "--no-wait", "--lab", at)
    code = (
        "import os, sys, time\nfrom dacha.engine.usage.exposition import exposition\n"
        "from dacha.engine.workspace import load\nws = load(sys.argv[1])\ntext = exposition(ws)\n"
        "before = time.process_time()\nfor _ in range(5): text = exposition(ws)\n"
        "print((time.process_time() - before) / 5, text.count('dacha_guest_cpu_seconds_total{'))"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, at], env=bench.env, capture_output=True, text=True, check=True
    ).stdout.split()
    bench.dacha("stop", "--all", "--force", "--wait", "0s", "--lab", at)
    share = float(done[0]) / 15.0 * 100
    print(f"  a round for {done[1]} guests: {float(done[0]) * 1000:.0f} ms of processor time")
    return holds("the collector's share of a processor, in percent", share, 0.5)


def main() -> int:
    install_bytecode()
    folder = Path(tempfile.mkdtemp(prefix="dacha-states-"))
    bench = Bench(folder)
    try:
        bench.dacha("apply")
        results = [part(bench) for part in (saved, snapshots, copies, archives, collector)]
        return 0 if all(results) else 1
    finally:
        bench.dacha("stop", "--all", "--force", "--wait", "0s")
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    sys.exit(main())
