"""Debian's own installer, as its package brings it, answered by Dacha: as far as it goes without its further parts. Its
programs run here; that a computer starts them from the medium is tried with `make whole`."""

import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from bench.archive import Archive, archive
from bench.worlds import listen_in

from tests.conftest import Lab
from tests.guests.installer_here import Network, installer, unpack

WANTED = "dists/bookworm/main/debian-installer/binary-amd64/Packages"
# What its text frontend says under each question and under what is to be read, and its first questions.
WAITS = ("Prompt: ", "[Press enter to continue]", "Select a language", "Select your location", "Keymap to use",
         "Hostname", "DHCP", "country")  # fmt: skip


def debian_medium(folder: Path) -> Path:
    """A medium with Debian's own installer as its package brings it, in the places of Debian's media."""
    from dacha.demo.installer_image import boot_medium

    subprocess.run(["apt-get", "download", "debian-installer-12-netboot-amd64"], cwd=folder, capture_output=True,
                   check=True)  # fmt: skip
    subprocess.run(["dpkg-deb", "-x", next(folder.glob("*.deb")), folder / "x"], check=True)
    files = next((folder / "x").rglob("text/debian-installer/amd64"))
    (folder / "tree/.disk").mkdir(parents=True)
    (folder / "tree/.disk/info").write_text('Debian GNU/Linux 12 "Bookworm" - amd64 NETBOOT\n')
    boot_medium(
        folder / "tree", "grub-mkrescue", folder / "debian.iso", "install", (files / "linux").read_bytes(),
        (files / "initrd.gz").read_bytes(), "", "DEBIAN_12",
    )  # fmt: skip
    shutil.rmtree(folder / "x")
    return folder / "debian.iso"


def write_lab(lab: Lab, key_files: Path, port: int) -> None:
    """Eight lines are all that an unattended Debian server needs. It has little memory, of which its installer says
    something, and waits."""
    shutil.copy(key_files / "id.pub", lab.folder / "id.pub")
    lab.file.write_text(
        '[lab]\nname = "pier"\n'
        '[network.pier]\nkind = "nat"\nsubnet = "10.77.4.0/24"\n'
        f'to-host = ["tcp {port}"]\n'
        '[guest.gauge]\nsystem = "debian"\nmemory = "512 MiB"\ninstall = "debian"\ndisk = [{ size = "2 GiB" }]\n'
        'adapter = [{ network = "pier", address = "10.77.4.20" }]\n'
        'login = { user = "ops", keys = ["id.pub"] }\n'
        'door.ssh = { from = "host" }\n'
        f'setup = {{ mirror = "http://10.77.4.1:{port}/debian" }}\n'
    )
    lab("media", "add", str(debian_medium(lab.folder)), "--name", "debian")
    assert "netcfg/get_ipaddress string 10.77.4.20" in lab("guest", "answers", "gauge").out


@pytest.fixture
def network() -> Iterator[Network]:
    made = Network("10.77.4.1/24")
    yield made
    made.close()


@pytest.mark.whole
def test_debians_own_installer_takes_its_answers_and_asks_nobody(
    lab: Lab, key_files: Path, network: Network, tmp_path: Path
) -> None:
    """It goes by itself through language, keyboard, the static address and the place of packages, whose signature it
    checks, to the list of its own parts."""
    with archive(tmp_path / "archive", listening=listen_in(network.outside)) as (port, served):
        write_lab(lab, key_files, port)
        # What a computer starts from: the kernel's command line, and the medium's file system with the answers in it.
        lab("apply", "--no-wait")
        words = Path(f"/proc/{lab.pid('gauge')}/cmdline").read_text().split("\0")
        lab("stop", "gauge", "--force", "--wait", "0s")
        root = tmp_path / "here" / "root"
        root.parent.mkdir()
        begun = lab.guest_folder("gauge") / "answers" / "initrd"
        assert begun.stat().st_mode & 0o077 == 0  # secret to others
        unpack(begun.read_bytes(), root)
        with installer(root, network, words[words.index("-append") + 1], 498_000) as running:
            deadline = time.monotonic() + 600
            while True:
                # What it says after it asked for its parts is no matter: this archive has none, and then it does ask.
                said = (root.parent / "console").read_text(errors="replace")
                if asked_for_parts(served):
                    break
                assert not asks(said) and running.poll() is None, said
                assert time.monotonic() < deadline, (said, served.asked)
                time.sleep(0.2)
            assert "10.77.4.20/24" in network.said() and "default via 10.77.4.1" in network.said()
    assert "nameserver 10.77.4.2\n" in (root / "etc/resolv.conf").read_text()
    assert (root / "etc/hostname").read_text() == "gauge\n"
    log = (root / "var/log/syslog").read_text()
    assert "Good signature" in log and "Error parsing" not in log and "low memory mode" in log


def asks(said: str) -> bool:
    return any(words in said for words in WAITS)


def asked_for_parts(served: Archive) -> bool:
    return any(path.startswith(WANTED) for path in served.asked)


@pytest.mark.whole
def test_an_emulated_computer_starts_debians_own_installer_with_its_answers(
    lab: Lab, key_files: Path, tmp_path: Path
) -> None:
    """The same by a computer that starts from the medium: most of three minutes."""
    with archive(tmp_path / "archive") as (port, served):
        write_lab(lab, key_files, port)
        lab("apply", "--no-wait")
        deadline = time.monotonic() + 1200
        while True:
            said = lab("console", "gauge", "--record").out
            if asked_for_parts(served):
                break
            assert not asks(said), said[-3000:]
            assert time.monotonic() < deadline, f"{said[-3000:]}\n{served.asked}"
            time.sleep(2)
        assert "installing" in lab("status", code=None).out
        lab("stop", "gauge", "--force", "--wait", "0s")
    # What was begun goes on with its answers, though something is on the disk by now; they are secret to others.
    answers = lab.guest_folder("gauge") / "answers"
    assert (answers / "initrd").stat().st_mode & 0o077 == 0
