"""Debian's own installer to an SSH login with nobody touching anything, by the answers that Dacha makes.

With `--by network` it starts over a network of the kernel's, in a namespace, by the loaders of that package (as root).
The installer is Debian's package of it; packages come from a small archive on loopback (`archive.py`), and the parts
of the installer that this machine's apt cannot fetch are made (`installer_parts.py`; needs gpg and cpio). What must be
true afterwards is looked at by a login through the guest's door. Takes an hour under software emulation.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from archive import Archive, archive
from dacha.demo.installer_image import boot_medium
from dacha.host import folders
from installer_parts import Parts, with_keyring
from worlds import Pair, pair

DACHA = str(Path(sys.executable).with_name("dacha"))
LONGEST_S = 3 * 3600
# Lines of the installer's record by which one sees how far it is.
STAGES = ("Loading additional components", "Partitioning disks", "Installing the base system", "Select and install",
          "Installing GRUB boot loader", "Finishing the installation", "Power down", "login:")  # fmt: skip
LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
subnet6 = "fd77:4::/64"
{network}
to-host = ["tcp {port}"]
[guest.gauge]
system = "debian"
install = "{install}"
firmware = "{firmware}"
memory = "1 GiB"
disk = [{{ size = "4 GiB" }}]
adapter = [{{ network = "pier", address = "10.77.4.20", address6 = "fd77:4::20" }}]
login = {{ user = "ops", keys = ["id.pub"] }}
door.ssh = {{ from = "host" }}
[guest.gauge.setup]
mirror = "http://10.77.4.1:{port}/debian"
time-zone = "Europe/London"
packages = ["tmux"]
run = ["echo ran > /root/ran"]
[[guest.gauge.setup.user]]
name = "mara"
keys = ["id.pub"]
groups = ["tides"]
"""
# What the installer writes where it waits for somebody.
ASKING = ("Prompt: '?' for help", "[Press enter to continue]", "Root password:")
# What is asked inside, and what must be in the answer.
ASKED = {
    "hostname": "gauge",
    "ip -4 -o address show scope global": "10.77.4.20/24",
    "ip -6 -o address show scope global": "fd77:4::20/64",
    "date +%Z; readlink /etc/localtime": "Europe/London",
    "id mara": "(tides)",
    "dpkg-query -W -f '${Status}' tmux": "install ok installed",
    "sudo cat /root/ran": "ran",
    "sudo sshd -T | grep -i '^passwordauthentication'": "passwordauthentication no",
    "cat /etc/debian_version": "13.",
    "cat /var/log/dacha-first-boot.log": "first boot: done",
}


def installer(work: Path, parts: Parts) -> Path:
    """What is started of Debian's installer, laid out for networks, as the newest of its packages brings it that there
    are modules for. Its initial file system knows the key of the bench's archive too."""
    there = parts.kernels()
    for package in parts.before(parts.package("debian-installer-13-netboot-amd64")):
        subprocess.run(["dpkg-deb", "-x", package, work / "x"], check=True)
        files = next((work / "x").rglob("text/debian-installer/amd64"))
        if version((files / "linux").read_bytes()) in there:
            return files.parent.parent.rename(work / "netboot")
        shutil.rmtree(work / "x")
    raise SystemExit(f"install_debian: no installer there has one of the kernels {', '.join(sorted(there))}")


def version(kernel: bytes) -> str:
    """The kernel's version, from its header (Linux, Documentation/x86/boot: kernel_version)."""
    at = int.from_bytes(kernel[0x20E:0x210], "little") + 0x200
    return kernel[at : at + 64].split(b" ")[0].decode()


def medium(work: Path, kernel: bytes, initrd: bytes) -> Path:
    """A medium with Debian's installer, laid out as its makers do."""
    tree = work / "tree"
    (tree / ".disk").mkdir(parents=True)
    (tree / ".disk/info").write_text('Debian GNU/Linux 13 "Trixie" - amd64 NETBOOT\n')
    boot_medium(tree, "grub-mkrescue", work / "debian.iso", "install", kernel, initrd, "", "DEBIAN_13_NETBOOT")
    return work / "debian.iso"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--firmware", default="bios", choices=("bios", "uefi"))
    parser.add_argument("--by", default="medium", choices=("medium", "network"))
    parser.add_argument("--record", type=Path, default=Path("install_debian.log"), help="where its record is kept")
    args = parser.parse_args()
    # Ended from outside, it still ends its guest.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    kept = folders.cache() / "bench-archive"
    with contextlib.ExitStack() as around:
        work = Path(around.enter_context(tempfile.TemporaryDirectory(prefix="dacha-bench-")))
        # Guests' processes have users of their own, that go through it to their files.
        work.chmod(0o755)
        parts = Parts(Archive(kept), work / "parts")
        tree = installer(work, parts)
        kernel, initrd = (tree / "debian-installer/amd64" / name for name in ("linux", "initrd.gz"))
        parts.make(version(kernel.read_bytes()))
        initrd.write_bytes(with_keyring(initrd.read_bytes(), parts))
        host = around.enter_context(pair()) if args.by == "network" else None
        port, served = around.enter_context(archive(kept, parts.own, host.listen() if host else None))
        iso = None if host else medium(work, kernel.read_bytes(), initrd.read_bytes())
        return install(work, args, port, served, iso, host)


def install(
    work: Path, args: argparse.Namespace, port: int, served: Archive, iso: Path | None, host: Pair | None
) -> int:
    """Install the guest from the medium, or over the network of a host of its own, and look at it; 0 where it is as the
    lab says."""
    env = os.environ | {f"DACHA_{what.upper()}": f"{work}/{what}" for what in ("state", "run", "shared")}
    env["DACHA_LAB"] = f"{work}/lab.toml"

    def dacha(*words: str) -> str:
        command = [DACHA, *words]
        if host:
            command = host.inside(host.host, *command)
        done = subprocess.run(command, env=env, capture_output=True, text=True, check=False)
        return done.stdout + done.stderr

    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", work / "id"], check=True)
    network = 'backend = "kernel"\nboot = { files = "netboot" }' if host else ""
    (work / "lab.toml").write_text(
        LAB.format(port=port, firmware=args.firmware, network=network, install="network" if host else "debian")
    )
    if iso:
        print(dacha("media", "add", str(iso), "--name", "debian"), end="")
    print(dacha("check"), dacha("apply", "--no-wait"), sep="", end="", flush=True)
    try:
        answers = follow(dacha, served)
        held = answers and look(work, dacha)
    finally:
        args.record.write_text(dacha("console", "gauge", "--record"))
        dacha("stop", "--all", "--force", "--wait", "0s")
        if host:
            dacha("caretaker", "stop")
    print(
        f"install_debian ({args.firmware}, by {args.by}): {'holds' if held else 'FALLS SHORT'}; record: {args.record}"
    )
    return 0 if held else 1


def follow(dacha: object, served: Archive) -> bool:
    """Wait until the guest's door answers; say how far the installer is. True when it does."""
    assert callable(dacha)
    began, seen = time.monotonic(), set()
    while time.monotonic() - began < LONGEST_S:
        said = dacha("console", "gauge", "--record")
        for stage in STAGES:
            if stage in said and stage not in seen:
                seen.add(stage)
                print(f"  {time.monotonic() - began:6.0f} s  {stage}  ({len(served.asked)} files fetched)", flush=True)
        if any(words in said for words in ASKING):
            print(f"  {time.monotonic() - began:6.0f} s  the installer asks somebody; not to be had: {served.missing}")
            print("\n".join(said.splitlines()[-12:]))
            return False
        if '"answers": true' in dacha("status", "--json"):
            print(f"  {time.monotonic() - began:6.0f} s  its SSH door answers", flush=True)
            return True
        time.sleep(10)
    return False


def look(work: Path, dacha: object) -> bool:
    """Whether what the lab says is true inside."""
    assert callable(dacha)
    held = True
    for command, expected in ASKED.items():
        said = dacha("connect", "gauge", "--", command)
        fine = expected in said
        held &= fine
        print(f"  {'holds' if fine else 'WRONG'}  {command}: {said.strip()!r}")
    return held


if __name__ == "__main__":
    sys.exit(main())
