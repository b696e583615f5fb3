"""From an installer medium to an SSH login with nobody touching anything, by each firmware and each ending."""

import shutil
import socket
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Lab


class Installers(dict[str, Path]):
    """The installers by how they end, and whether they ask for a key first; each is made when it is wanted."""

    def __missing__(self, name: str) -> Path:
        from dacha.demo.installer_image import installer_image

        finish, _, ask = name.partition("-")
        self[name] = installer_image(finish, ask=bool(ask))
        return self[name]


@pytest.fixture(scope="session")
def installers() -> Installers:
    return Installers()


@pytest.mark.parametrize(
    ("firmware", "medium", "bus"),
    [
        # These start only when a key is pressed in their first seconds.
        ("bios", "poweroff-ask", "nvme"),
        pytest.param("uefi", "reboot-ask", "scsi", marks=pytest.mark.whole),
    ],
)
def test_a_medium_becomes_a_guest(
    lab: Lab, key_files: Path, installers: Installers, firmware: str, medium: str, bus: str
) -> None:
    for name in ("id", "id.pub"):
        shutil.copy(key_files / name, lab.folder / name)
    lab("new", "pier")
    lab("media", "add", str(installers[medium]), "--name", "installer")
    lab("guest", "add", "gauge", "--install", "installer", "--disk", "256MiB", "--memory", "256MiB", "--key", "id.pub",
        "--user", "ops", "--firmware", firmware, *(["--tpm"] if firmware == "uefi" else []))  # fmt: skip
    lab.file.write_text(lab.file.read_text().replace('size = "256 MiB"', f'size = "256 MiB", bus = "{bus}"'))
    lab("door", "add", "gauge", "ssh")
    lab("apply", "--no-wait")
    status = lab("status", "--json", code=None).json
    assert "installing" in lab("status", code=None).out or status["guests"][0]["state"] == "off"

    # Nobody does anything: the guest installs, restarts or is started again, and its door answers.
    deadline = time.monotonic() + 600
    while lab("status", "--json", code=None).json["guests"][0]["doors"][0]["answers"] is not True:
        assert time.monotonic() < deadline, lab("console", "gauge", "--record").out[-2000:]
        time.sleep(1)
    assert lab("connect", "gauge", "--", "hostname; cat /proc/cmdline").out.startswith("gauge\nBOOT_IMAGE=")
    assert "installing" not in lab("status").out
    assert lab("diff").out == "pier: everything applied\n"

    # The medium is out; restarted, the guest starts from its disk, and nothing is installed twice.
    if (firmware, medium) == ("bios", "reboot"):
        lab("restart", "gauge", "--wait", "4min")
    if firmware == "uefi":
        assert lab("connect", "gauge", "--", "cat /sys/class/tpm/tpm0/tpm_version_major").out == "2\n"
    record: str = lab("console", "gauge", "--record").out
    disk = {"virtio": "vda", "scsi": "sda", "nvme": "nvme0n1"}[bus]
    assert record.count(f"demo installer: installed on /dev/{disk}") == 1
    if firmware == "uefi":
        assert (lab.guest_folder("gauge") / "uefi-variables.fd").is_file()


def test_media_go_in_and_out_of_a_running_guest(guest_lab: Lab, installers: Installers) -> None:
    lab = guest_lab
    lab.write(
        '[lab]\nname = "drives"\n[network.pier]\nkind = "nat"\n[guest.gauge]\n@BOOT@\n'
        'adapter = [{ network = "pier" }]\n'
        'door.ssh = { from = "host" }\nmedium = ["first"]\n'
        'disk = [{ size = "16 MiB", bus = "scsi" }, { size = "8 MiB", bus = "nvme" }]\n'
    )
    lab("media", "add", str(installers["reboot"]), "--name", "first")
    lab("media", "add", str(installers["poweroff-ask"]), "--name", "second")
    lab("apply")
    blocks = lab("connect", "gauge", "--", "cat /sys/block/sda/size /sys/block/nvme0n1/size").out.split()
    assert blocks == [str((16 << 20) // 512), str((8 << 20) // 512)]

    # Disks grow while the guest runs and while it is off; they are does not shrink disks.
    lab.file.write_text(lab.file.read_text().replace("16 MiB", "20 MiB"))
    assert "grew disk 0 to 20 MiB" in lab("apply").out
    lab.file.write_text(lab.file.read_text().replace("20 MiB", "12 MiB"))
    assert "does not shrink disks" in lab("check", code=1).out
    lab.file.write_text(lab.file.read_text().replace("12 MiB", "20 MiB"))
    assert lab("diff").out == "drives: everything applied\n"

    def inserted() -> list[Any]:
        from dacha.hypervisor.monitor.qmp import Qmp

        with Qmp(Path(lab.env["DACHA_RUN"]) / "drives/gauge/watch") as qmp:
            (row,) = [r for r in qmp.execute("query-block") if "drive0" in r.get("qdev", "")]
            if "inserted" not in row:
                return [""]
            # QEMU was handed the file open, and knows it by a number; its descriptors tell which it is.
            opened = {p.readlink().name for p in Path(f"/proc/{qmp.pid}/fd").iterdir()}
            return sorted(name for name in opened if name.endswith(".iso") and name != "seed.iso")

    assert inserted() == ["first.iso"]
    # Mounted, it is locked in; the guest's own console is where nobody asks for a password.
    with socket.socket(socket.AF_UNIX) as console:
        console.connect(f"{lab.env['DACHA_RUN']}/drives/gauge/serial")
        console.sendall(b"mount -o ro /dev/sr0 /mnt/seed && echo mou''nted\n")
        deadline = time.monotonic() + 120
        while "mounted" not in lab("console", "gauge", "--record").out:
            assert time.monotonic() < deadline
            time.sleep(0.2)
    said = lab("media", "eject", "gauge", code=1).err
    assert "the guest has locked the tray" in said and "--force" in said
    assert inserted() == ["first.iso"] and 'medium = ["first"]' in lab.file.read_text()
    assert "Ejected first from gauge" in lab("media", "eject", "gauge", "--force").out
    assert inserted() == [""]
    assert "medium" not in lab.file.read_text().replace("media", "")
    assert "no medium is in gauge" in lab("media", "eject", "gauge", code=1).err
    said = lab("media", "insert", "gauge", "second").out
    assert "Inserted second into gauge" in said
    lab("stop", "gauge")
    lab.file.write_text(lab.file.read_text().replace('"8 MiB"', '"10 MiB"'))
    lab("start", "gauge")
    assert lab("connect", "gauge", "--", "cat /sys/block/nvme0n1/size").out.strip() == str((10 << 20) // 512)
    assert inserted() == ["second.iso"]
    assert "gauge, in its drive" in lab("media", "remove", "second", code=2).err


def test_a_medium_that_cannot_start_the_guest_is_refused_before_anything(lab: Lab) -> None:
    from tests.formats.test_medium import MEDIA

    (lab.folder / "bsd.iso").write_bytes(MEDIA["another bsd"][0])
    (lab.folder / "drivers.iso").write_bytes(MEDIA["drivers"][0])
    lab("new", "pier")
    lab("media", "add", "bsd.iso")
    lab("media", "add", "drivers.iso")
    lab("guest", "add", "a", "--install", "bsd", "--firmware", "uefi", "--anyway")
    assert "bsd does not boot by UEFI" in lab("check", code=1).out
    assert "does not boot by UEFI" in lab("apply", code=3).err
    lab("guest", "remove", "a")
    lab("guest", "add", "b", "--install", "drivers", "--anyway")
    assert "it is not an installation medium" in lab("check", code=1).out
    lab("guest", "remove", "b")
    lab("guest", "add", "c", "--install", "dsb", "--anyway")
    assert "no medium dsb" in lab("check", code=1).out


@pytest.mark.whole
def test_an_answered_installer_that_restarts_is_started_from_its_disk(
    lab: Lab, key_files: Path, installers: Installers, tmp_path: Path
) -> None:
    """The demo's installer under Debian's name: its kernel is the medium's, and is gone afterwards."""
    from dacha.demo.installer_image import boot_medium
    from dacha.formats.medium import read_files

    with installers["reboot"].open("rb") as f:
        found = read_files(f, {"/boot/vmlinuz": 64 << 20, "/boot/initrd": 512 << 20})
    assert found
    (tmp_path / "tree/.disk").mkdir(parents=True)
    (tmp_path / "tree/.disk/info").write_text("Debian GNU/Linux 12 - amd64\n")
    medium = tmp_path / "debian.iso"
    boot_medium(tmp_path / "tree", "grub-mkrescue", medium, "x", found["/boot/vmlinuz"], found["/boot/initrd"], "", "X")
    for name in ("id", "id.pub"):
        shutil.copy(key_files / name, lab.folder / name)
    lab("new", "pier")
    lab("media", "add", str(medium))
    said = lab("guest", "add", "gauge", "--install", "debian", "--disk", "256MiB", "--memory", "256MiB",
               "--key", "id.pub", "--user", "ops", "--door", "ssh").out  # fmt: skip
    assert "is unattended, and uses the whole disk (preseed)" in said
    lab("apply", "--no-wait")
    deadline = time.monotonic() + 600
    while lab("status", "--json", code=None).json["guests"][0]["doors"][0]["answers"] is not True:
        assert time.monotonic() < deadline, lab("console", "gauge", "--record").out[-2000:]
        time.sleep(1)
    assert lab("connect", "gauge", "--", "cat /proc/cmdline").out.startswith("BOOT_IMAGE=")
    assert lab("diff").out == "pier: everything applied\n"
    # Asked for again, its answers are still there; a guest that is installed is not installed over.
    assert lab("guest", "answers", "gauge", "--json").json["form"] == "preseed"
    assert not (lab.guest_folder("gauge") / "answers/initrd").exists()
    lab("stop", "gauge", "--force", "--wait", "0s")
    charts = lab.guest_folder("gauge").parent / "charts"
    charts.mkdir(mode=0o700)
    shutil.copy(lab.guest_folder("gauge") / "disk-0.qcow2", charts)
    lab("guest", "add", "charts", "--install", "debian", "--memory", "256MiB", "--attach", "0", "--user", "ops")
    assert "its disk is not empty" in lab("check").out
    # A file system without a partition table is something too, whatever the disk is called; and being started by hand
    # once does not make it an installation that was begun.
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", charts / "disk-tides.qcow2", "64M"], check=True)
    subprocess.run(
        ["qemu-io", "-c", "write -P 1 65600 8", charts / "disk-tides.qcow2"], check=True, capture_output=True
    )
    lab("guest", "remove", "charts")
    lab("guest", "add", "charts", "--install", "debian", "--memory", "256MiB", "--attach", "tides", "--user", "ops")
    assert "its disk is not empty" in lab("check").out
    for _ in range(2):
        lab("start", "charts", "--no-wait")
        assert not (charts / "answers").exists()
        lab("stop", "charts", "--force", "--wait", "0s")


def signed_medium(work: Path, out: Path) -> None:
    """A medium that Secure Boot admits: Debian's signed loaders and its signed kernel, made as Debian makes its own."""
    from dacha.demo import guest_image
    from dacha.formats.linux import cpio

    root = guest_image.unpacked()
    tree = work / "tree"
    (tree / "boot/grub").mkdir(parents=True)
    (tree / ".disk").mkdir()
    (tree / ".disk/info").write_text("Saltmarsh signed\n")
    shutil.copy(next((root / "boot").glob("vmlinuz-*")), tree / "boot/vmlinuz")
    (tree / "boot/initrd").write_bytes(cpio.archive(guest_image.entries(root)))
    (tree / "boot/grub/grub.cfg").write_text(
        "linux /boot/vmlinuz console=ttyS0 loglevel=7 mitigations=off rdinit=/init\ninitrd /boot/initrd\nboot\n"
    )
    efi = tree / "boot/efi.img"
    with efi.open("wb") as f:
        f.truncate(8 << 20)
    for command in (
        ["mformat", "-i", efi, "::"],
        ["mmd", "-i", efi, "::/EFI", "::/EFI/BOOT"],
        ["mcopy", "-i", efi, "/usr/lib/shim/shimx64.efi.signed", "::/EFI/BOOT/BOOTX64.EFI"],
        ["mcopy", "-i", efi, "/usr/lib/grub/x86_64-efi-signed/gcdx64.efi.signed", "::/EFI/BOOT/grubx64.efi"],
        [
            "xorriso",
            "-as",
            "mkisofs",
            "-V",
            "SALTMARSH_SIGNED",
            "-R",
            "-e",
            "boot/efi.img",
            "-no-emul-boot",
            "-o",
            out,
            tree,
        ],
    ):
        subprocess.run(command, check=True, capture_output=True)


@pytest.mark.whole
def test_secure_boot_starts_what_is_signed_and_nothing_else(lab: Lab, installers: Installers, tmp_path: Path) -> None:
    (tmp_path / "work").mkdir()
    signed_medium(tmp_path / "work", tmp_path / "signed.iso")
    lab("new", "pier")
    lab("media", "add", str(tmp_path / "signed.iso"))
    lab("media", "add", str(installers["reboot"]), "--name", "unsigned")
    for name in ("signed", "unsigned"):
        lab("guest", "add", name, "--install", name, "--disk", "64MiB", "--memory", "512MiB", "--firmware", "uefi",
            "--secure-boot")  # fmt: skip
    lab("apply", "--no-wait")
    awaited = {"signed": "Secure boot enabled", "unsigned": "Access Denied"}
    deadline = time.monotonic() + 600
    for name, word in awaited.items():
        while word not in (said := lab("console", name, "--record").out):
            assert time.monotonic() < deadline, said[-2000:]
            time.sleep(1)
    assert "demo installer" not in lab("console", "unsigned", "--record").out
    assert (lab.guest_folder("signed") / "uefi-secure-variables.fd").is_file()
