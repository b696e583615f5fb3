"""A Debian guest's desktop, entered by a real client on a machine of the LAN, with what was handed out
and the password that `guest password` set. Part of `make faults`: the guest takes minutes to make and to start."""

from __future__ import annotations

import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.networks.world import HostedLab

HERE = Path(__file__).parent
PASSWORD = "low tide at nine"
LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.desk]
system = "debian"
memory = "1 GiB"
cpu = "qemu64"
cpus = 2
disk = [{ from = "debian/disk.qcow2" }]
boot = { kernel = "debian/vmlinuz", initrd = "debian/initrd.img", command-line = "@LINE@" }
adapter = [{ network = "pier", address = "10.77.4.20" }]
login = { user = "ops", keys = ["id.pub"] }
door.rdp = { from = "lan", port = 3390 }
"""


@contextmanager
def client(lab: HostedLab, file: Path, log: Path) -> Iterator[None]:
    """The client on the LAN's machine, with a display that nobody looks at."""
    display = subprocess.Popen(["Xvfb", ":93", "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(2)
        words = [
            "env",
            "DISPLAY=:93",
            "HOME=/nonexistent",
            shutil.which("xfreerdp") or "xfreerdp3",
            str(file),
            f"/p:{PASSWORD}",
            "/cert:ignore",
            "/log-level:WARN",
        ]
        with log.open("w") as out:
            child = subprocess.Popen(lab.world.inside("lan", *words), stdout=out, stderr=out, stdin=subprocess.DEVNULL)
            yield
            child.kill()
            child.wait()
    finally:
        display.kill()
        display.wait()


@pytest.mark.whole
def test_a_desktop_is_entered_from_the_lan_with_what_was_handed_out(hosted: HostedLab, tmp_path: Path) -> None:
    lab, made = hosted, Path("/var/tmp/dacha-debian-desktop")
    subprocess.run([HERE.parent.parent / "tools/debian-guest.sh", made, "--desktop"], check=True, timeout=900)
    (lab.folder / "debian").symlink_to(made)
    lab.write(LAB.replace("@LINE@", "root=LABEL=root rw console=ttyS0 net.ifnames=0"))
    lab("guest", "password", "desk", "ops", input=f"{PASSWORD}\n", stdin=None)
    lab("apply", "--wait", "15min", timeout=1000)

    def login(password: str, *words: str) -> dict[str, str]:
        said = lab(
            "trace",
            "desk",
            "rdp",
            "--from",
            "lan",
            "--user",
            *words,
            "--json",
            code=None,
            input=f"{password}\n",
            stdin=None,
        )
        return next(h for h in said.json["hops"] if h["name"] == "login")

    assert login(PASSWORD, "ops")["verdict"] == "fine"
    assert "dacha guest password desk ops" in login("high tide", "ops")["remedy"]
    assert "there is no kim" in login("high tide", "kim")["means"]
    # Its server wants a password on its own screen only: a client that comes in is the proof.
    lab("handout", "desk", "--from", "lan", "--output", "handed")
    (file,) = (lab.folder / "handed").rglob("*.rdp")
    with client(lab, file, tmp_path / "client.log"):
        deadline = time.monotonic() + 240
        asked = ("connect", "desk", "--by", "agent", "--", "pgrep -u ops -x icewm > /dev/null && echo there")
        while "there" not in lab(*asked, code=None).out:
            assert time.monotonic() < deadline, (tmp_path / "client.log").read_text()
            time.sleep(2)
        time.sleep(10)
        picture = tmp_path / "desktop.png"
        subprocess.run(["import", "-display", ":93", "-window", "root", picture], check=True, timeout=60)
        told = subprocess.run(["identify", "-format", "%k", picture], capture_output=True, text=True, check=True)
        assert int(told.stdout) > 8, "a blank screen"
        print(f"\nwhat it shows: {picture}")
    assert login(PASSWORD, "ops")["verdict"] == "fine"
