"""Shared folders by SMB over a lab's network, with Samba's own client where a guest would be."""

from __future__ import annotations

import contextlib
import os
import subprocess
import time
from pathlib import Path

import pytest

from dacha.host.facts import program
from tests.caretaker.test_clients import GAUGE, Client
from tests.networks.world import HostedLab
from tests.processes import kill

LAB = f"""\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
system = "windows"
memory = "64 MiB"
disk = [{{ size = "1 MiB" }}]
adapter = [{{ network = "pier", address = "10.77.4.20", hardware-address = "{GAUGE}" }}]
[guest.desk]
system = "debian"
memory = "64 MiB"
disk = [{{ size = "1 MiB" }}]
adapter = [{{ network = "pier", address = "10.77.4.21" }}]
"""
OWNER = 4321
# Where its own service would be started by its installation, nobody's machine is given one for a test.
pytestmark = pytest.mark.skipif(program("smbd") is None, reason="samba is not installed here")


@pytest.fixture
def shared(hosted: HostedLab) -> HostedLab:
    """A lab whose guest gauge has two folders by SMB, and is off."""
    for name in ("tides", "charts"):
        folder = hosted.folder / name
        folder.mkdir()
        os.chown(folder, OWNER, OWNER)
    (hosted.folder / "charts/pier.txt").write_text("low water\n")
    # The way to the folders is no business of their owner's, who reaches them all the same.
    hosted.folder.chmod(0o700)
    hosted.write(LAB)
    assert "by smb" in hosted("share", "add", "gauge", "tides").out
    hosted("share", "add", "gauge", "charts", "--read-only")
    hosted("apply", "--no-wait")
    hosted("stop", "--all", "--force", "--wait", "0s")
    return hosted


class Smb:
    """Samba's client at the guest's place on the network."""

    def __init__(self, lab: HostedLab) -> None:
        self.lab, self.client = lab, Client(lab, GAUGE)
        self.at("10.77.4.20")
        self.password = (lab.guest_folder("gauge") / "share_password").read_text().strip()

    def at(self, address: str) -> None:
        self.client.run("ip", "address", "flush", "dev", "eth0")
        self.client.run("ip", "address", "add", f"{address}/24", "dev", "eth0")

    def ask(self, share: str, commands: str, *options: str, password: str | None = None) -> str:
        login = self.lab.folder / "login"
        login.write_text(f"username=share\npassword={password or self.password}\n")
        words = ("smbclient", f"//10.77.4.1/{share}", "-A", str(login), *options, "-c", commands)
        return self.client.run(*words, check=False, timeout=60)


def test_a_guest_has_its_folders_by_smb_and_nobody_else_has_them(shared: HostedLab) -> None:
    smb, folder = Smb(shared), shared.folder
    big = folder / "big"
    big.write_bytes(os.urandom(1 << 20) * 50)
    assert "big" in smb.ask("tides", f"put {big} big; ls")
    assert (folder / "tides/big").read_bytes() == big.read_bytes()
    made = (folder / "tides/big").stat()
    assert (made.st_uid, made.st_gid, made.st_mode & 0o7777) == (OWNER, OWNER, 0o644)
    smb.ask("tides", f"get big {folder / 'back'}")
    assert (folder / "back").read_bytes() == big.read_bytes()
    # Many at once, both ways.
    many = folder / "many"
    many.mkdir()
    for n in range(1000):
        (many / f"{n}.txt").write_text(f"reading {n}\n")
    smb.ask("tides", f"mkdir many; cd many; lcd {many}; prompt; mput *")
    assert {p.name: p.read_text() for p in (folder / "tides/many").iterdir()} == {
        p.name: p.read_text() for p in many.iterdir()
    }
    # What may only be read is only read, by the kernel's word.
    assert "low water" in smb.ask("charts", "get pier.txt /dev/stdout")
    assert "NT_STATUS_ACCESS_DENIED" in smb.ask("charts", f"put {big} big")
    # Links lead nowhere, and nothing but the folders is there.
    (folder / "tides/out").symlink_to("/etc/passwd")
    assert "root:" not in smb.ask("tides", "get out /dev/stdout")
    assert "NT_STATUS_BAD_NETWORK_NAME" in smb.ask("etc", "ls")
    # Older versions of the protocol, another password, another address of the network, and this host itself.
    assert "NT_STATUS_LOGON_FAILURE" in smb.ask("tides", "ls", password="guessed")
    old = smb.ask("tides", "ls", "--option=client max protocol=SMB2")
    assert "many" not in old and "NT_STATUS" in old
    smb.at("10.77.4.21")
    assert "many" not in smb.ask("tides", "ls", "-t", "3")
    shared.world.run("host", "smbclient", "//10.77.4.1/tides", "-A", str(folder / "login"), "-c", "ls", check=False)
    assert "many" not in shared.world.run(
        "host", "smbclient", "//10.77.4.1/tides", "-A", str(folder / "login"), "-c", "ls", check=False
    )


def test_a_server_of_folders_is_their_owner_and_sees_nothing_else(shared: HostedLab) -> None:
    smb = Smb(shared)
    words = smb.client.inside("sh", "-c", "(sleep 1; echo ls; sleep 20) | smbclient //10.77.4.1/tides -A login")
    (shared.folder / "login").write_text(f"username=share\npassword={smb.password}\n")
    client = subprocess.Popen(words, cwd=shared.folder, stdout=subprocess.PIPE)
    try:
        process = server(shared)
        status = dict(line.split(":\t", 1) for line in (process / "status").read_text().splitlines() if ":\t" in line)
        assert status["Uid"].split() == [str(OWNER)] * 4
        assert int(status["CapEff"], 16) == 0 and status["NoNewPrivs"] == "1" and not status["Groups"].strip()
        root = process / "root"
        # Another connection meanwhile has a server of its own, and so has each that a killed guest left behind.
        for _ in range(10):
            assert "blocks available" in smb.ask("tides", "ls")
        # What it does it does itself: a client could be quicker than a helper's start, and its share was refused then.
        assert inside(process) == [process]
        assert sorted(p.name for p in (root / "shares").iterdir()) == ["charts", "tides"]
        assert not (root / "root").exists() and not (root / "home").exists() and not (root / "etc/shadow").exists()
        for what in ("net", "mnt", "pid", "user", "ipc"):
            assert (process / "ns" / what).readlink() != Path(f"/proc/self/ns/{what}").readlink(), what
        # Taken out of the lab file, it is shut to who has it open.
        shared("share", "remove", "gauge", "tides")
        shared("apply", "--no-wait")
        wait_until(lambda: not process.exists())
    finally:
        client.kill()
        client.wait()
    assert "NT_STATUS_BAD_NETWORK_NAME" in smb.ask("tides", "ls")


def server(lab: HostedLab) -> Path:
    """The /proc folder of the one server."""
    found: list[Path] = []

    def looked() -> bool:
        for process in Path("/proc").glob("[0-9]*"):
            try:
                if b"/settings/smb.conf" in (process / "cmdline").read_bytes():
                    parent = (process / "status").read_text().partition("PPid:\t")[2].split()[0]
                    if str(lab.folder).encode() in Path(f"/proc/{parent}/cmdline").read_bytes():
                        found.append(process)
            except OSError:
                continue
        return bool(found)

    wait_until(looked)
    return found[0]


def inside(first: Path) -> list[Path]:
    """The /proc folders of all processes in the view of this one."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            if (process / "ns/pid").readlink() == (first / "ns/pid").readlink():
                found.append(process)
    return found


def wait_until(true: object) -> None:
    deadline = time.monotonic() + 120
    assert callable(true)
    while not true():
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_what_is_shared_by_smb_is_said_and_what_cannot_be_is_refused(shared: HostedLab) -> None:
    said = shared("reach").out
    assert "shared folders by SMB (gauge only)" in said
    rows = {r["name"]: r for r in shared("share", "list", "--json").json["shares"]}
    assert rows["tides"]["by"] == "smb" and rows["tides"]["at"] == "T:" and rows["charts"]["at"] == "U:"
    told = shared("share", "show", "gauge", "tides")
    password = (shared.guest_folder("gauge") / "share_password").read_text().strip()
    assert r"New-SmbGlobalMapping -RemotePath '\\10.77.4.1\tides' -LocalPath 'T:'" in told.out
    assert password not in told.out and "PASSWORD" in told.out
    assert password in shared("share", "show", "gauge", "tides", "--password").out
    assert (shared.guest_folder("gauge") / "share_password").stat().st_mode & 0o077 == 0
    # A Linux guest is told at its first boot, and what is typed in one that runs is shown.
    shared("share", "add", "desk", "tides", "--by", "smb")
    told = shared("share", "show", "desk", "tides")
    assert "apt-get install -y cifs-utils" in told.out
    assert (
        "//10.77.4.1/tides /srv/tides cifs rw,nofail,_netdev,x-systemd.automount,credentials=/etc/dacha-shares,uid=1000"
        in told.out
    )
    assert "cifs-utils" in shared("guest", "first-boot", "desk").out
    # In user mode nothing tells one guest from another.
    before = shared.file.read_text()
    shared.write(before.replace('backend = "kernel"', 'backend = "user"'))
    refused = shared("check", code=1).out
    assert "shares by SMB require a NAT or host-only kernel network" in refused
    assert 'backend = "kernel" in [network.pier]' in refused
    shared.write(before)
    os.chown(shared.folder / "charts", OWNER + 1, OWNER + 1)
    assert "several owners" in shared("check", code=1).out
    # A folder that gives this host away is not served either, though it became one after it was checked.
    os.chown(shared.folder / "charts", OWNER, OWNER)
    (shared.folder / "tides").rename(shared.folder / "before")
    (shared.folder / "tides").symlink_to("/etc")
    assert "controls this host" in shared("check", code=1).out
    smb = Smb(shared)
    assert "passwd" not in smb.ask("tides", "ls")
    assert "/etc, which controls this host" in (shared.folder / "state/labs/real/caretaker.log").read_text()


DEBIAN = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
memory = "1 GiB"
cpu = "qemu64"
disk = [{ from = "debian/disk.qcow2" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
login = { user = "ops", keys = ["id.pub"] }
door.ssh = { from = "host" }
share.tides = { folder = "tides", at = "/srv/tides", by = "smb" }
[guest.gauge.boot]
kernel = "debian/vmlinuz"
initrd = "debian/initrd.img"
command-line = "root=LABEL=root rw console=ttyS0 net.ifnames=0"
"""


@pytest.mark.whole
def test_a_debian_guests_first_boot_mounts_its_folder(hosted: HostedLab) -> None:
    lab, made = hosted, Path("/var/tmp/dacha-debian")
    subprocess.run([Path(__file__).parents[2] / "tools/debian-guest.sh", made], check=True, timeout=900)
    (lab.folder / "debian").symlink_to(made)
    tides = lab.folder / "tides"
    tides.mkdir()
    os.chown(tides, OWNER, OWNER)
    for n in range(1000):
        (tides / f"{n}.txt").write_text(f"reading {n}\n")
    lab.write(DEBIAN)
    lab("apply", "--wait", "15min", timeout=1000)
    # (It says at once that this small system has no locale; the rest of its first boot goes on.)
    deadline = time.monotonic() + 600
    while "first boot: done" not in lab("console", "gauge", "--record").out:
        assert time.monotonic() < deadline
        time.sleep(2)
    told = lab("connect", "gauge", "--", "findmnt -no FSTYPE,OPTIONS /srv/tides", timeout=300).out
    assert told.startswith("cifs") and "vers=3.1.1" in told
    sums = "cd {0} && find . -type f | sort | xargs md5sum | md5sum"
    here = subprocess.run(["sh", "-c", sums.format(tides)], capture_output=True, text=True, check=True).stdout
    assert lab("connect", "gauge", "--", sums.format("/srv/tides"), timeout=300).out == here
    made_there = "head -c 50M /dev/urandom > /srv/tides/big && touch /srv/tides/mine && sync && md5sum < /srv/tides/big"
    there = lab("connect", "gauge", "--", made_there, timeout=300).out
    here = subprocess.run(
        ["md5sum"], stdin=(tides / "big").open("rb"), capture_output=True, text=True, check=True
    ).stdout
    assert there == here and (tides / "mine").stat().st_uid == OWNER
    # Killed and started again it has its folder again, by its own table of file systems.
    kill(lab.pid("gauge"))
    lab("start", "gauge", "--wait", "15min", timeout=1000)
    assert "1002" in lab("connect", "gauge", "--", "ls /srv/tides | wc -l", timeout=300).out
