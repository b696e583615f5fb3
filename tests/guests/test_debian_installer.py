"""Debian's own installer, as its package brings it, answered by Dacha: as far as it goes without its further parts."""

import shutil
import subprocess
import time
from pathlib import Path

from tests.conftest import Lab


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


def test_debians_own_installer_takes_its_answers_and_asks_nobody(lab: Lab, key_files: Path, tmp_path: Path) -> None:
    """Eight lines are all that an unattended Debian server needs. Its installer goes by itself through language,
    keyboard, the static address and the place of packages, whose signature it checks, to the list of its own parts. It
    has little memory here: what it says of that, and waits, is answered too."""
    from bench.archive import archive

    shutil.copy(key_files / "id.pub", lab.folder / "id.pub")
    with archive(tmp_path / "archive") as (port, served):
        lab.file.write_text(
            '[lab]\nname = "pier"\n'
            '[network.pier]\nkind = "nat"\nsubnet = "10.77.4.0/24"\n'
            f'to-host = ["tcp {port}"]\n'
            '[guest.gauge]\nsystem = "debian"\nmemory = "512 MiB"\ninstall = "debian"\ndisk = [{ size = "2 GiB" }]\n'
            'adapter = [{ network = "pier", address = "10.77.4.20" }]\n'
            'login = { user = "ops", keys = ["id.pub"] }\n'
            'door.ssh = { from = "host", port = 2899 }\n'
            f'setup = {{ mirror = "http://10.77.4.1:{port}/debian" }}\n'
        )
        lab("media", "add", str(debian_medium(tmp_path)), "--name", "debian")
        assert "netcfg/get_ipaddress string 10.77.4.20" in lab("guest", "answers", "gauge").out
        lab("apply", "--no-wait")
        wanted = "dists/bookworm/main/debian-installer/binary-amd64/Packages"
        deadline = time.monotonic() + 1200
        while not any(path.startswith(wanted) for path in served.asked):
            said = lab("console", "gauge", "--record").out
            assert time.monotonic() < deadline, f"{said[-3000:]}\n{served.asked}"
            time.sleep(2)
        said = lab("console", "gauge", "--record").out
        assert "installing" in lab("status", code=None).out
        lab("stop", "gauge", "--force", "--wait", "0s")
    for question in ("Select a language", "Select your location", "Keymap to use", "Hostname", "DHCP", "country"):
        assert question not in said
    # What was begun goes on with its answers, though something is on the disk by now; they are secret to others.
    answers = lab.guest_folder("gauge") / "answers"
    assert (answers / "initrd").stat().st_mode & 0o077 == 0
