"""Disks on every bus, copies and clones, attached and detached while a guest runs, kept in a storage."""

import fcntl
import json
import os
import signal
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import Lab
from tests.processes import kill, wait_until_gone

HEAD = """[lab]
name = "disks"
[storage.big]
path = "big"
[network.pier]
kind = "nat"
isolated = true
[guest.gauge]
@BOOT@
adapter = [{ network = "pier" }]
door.ssh = { from = "host" }
"""


def sizes(lab: Lab) -> dict[str, int]:
    """The guest's disks as it sees them: name and MiB."""
    out = lab("connect", "gauge", "--", "for b in /sys/block/*; do echo ${b##*/} $(cat $b/size); done").out
    rows = (line.split() for line in out.splitlines())
    return {name: int(sectors) >> 11 for name, sectors in rows if name[:2] in ("vd", "sd", "nv") and int(sectors) > 512}


def sees(lab: Lab, expected: dict[str, int]) -> bool:
    """True when the guest sees these disks; its system takes a moment to notice."""
    deadline = time.monotonic() + 120
    while (found := sizes(lab)) != expected:
        assert time.monotonic() < deadline, found
        time.sleep(0.3)
    return True


def test_disks_come_and_go_while_the_guest_runs(guest_lab: Lab) -> None:
    lab = guest_lab
    (lab.folder / "big").mkdir()
    lab.write(HEAD + 'disk = [{ size = "16 MiB" }, { size = "24 MiB", bus = "scsi", storage = "big" }]\n')
    lab("apply")
    assert sees(lab, {"vda": 16, "sda": 24})
    (kept,) = (lab.folder / "big/disks/disks").glob("gauge.1.*.qcow2")

    # Attached live on every bus that can, and written to.
    lab("guest", "edit", "gauge", "--add-disk", "40MiB")
    text = lab.file.read_text()
    more = '{ size = "40 MiB", bus = "nvme" }, { name = "log", size = "48 MiB" }'
    lab.file.write_text(text.replace('{ size = "40 MiB" }', more))
    assert "attached disk 2 (nvme)" in lab("apply").out
    assert sees(lab, {"vda": 16, "sda": 24, "nvme0n1": 40, "vdc": 48})
    assert lab("diff").out == "disks: everything applied\n"

    # Detached from the middle: the others keep their contents, and so does the one that went.
    assert "no disk logs" in lab("guest", "edit", "gauge", "--detach-disk", "logs", code=2).err
    lab("guest", "edit", "gauge", "--detach-disk", "1", "--detach-disk", "log")
    said = lab("apply").out
    assert "detached disk 1 (its contents are kept)" in said and "detached disk log" in said
    assert sees(lab, {"vda": 16, "nvme0n1": 40})
    assert 'name = "2"' in lab.file.read_text() and kept.is_file()
    shown = lab("guest", "show", "gauge").out
    assert f"{kept} (kept, not attached)" in shown
    assert "choose one of the stored disks: 1, log" in lab("guest", "edit", "gauge", "--attach-disk", "7", code=2).err
    lab("guest", "edit", "gauge", "--attach-disk", "log")
    lab("apply")
    assert sees(lab, {"vda": 16, "nvme0n1": 40, "vdc": 48})

    # What cannot go live waits for the next start, and says so.
    lab("guest", "edit", "gauge", "--detach-disk", "0")
    assert "detach disk 0" in lab("diff").out and "at next start" in lab("diff").out
    lab("stop", "gauge")
    lab("guest", "remove", "gauge", "--with-disks")
    assert kept.exists() and "delete disk 1" in lab("diff").out
    lab("apply")
    assert not kept.exists()


def test_the_first_disk_of_a_guest_comes_while_it_runs(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(HEAD)
    lab("apply")
    assert sees(lab, {})
    lab("guest", "edit", "gauge", "--add-disk", "16MiB")
    assert "attached disk 0" in lab("apply").out and sees(lab, {"vdb": 16})  # behind the first-boot data
    lab("guest", "edit", "gauge", "--add-disk", "24MiB")
    refused = lab("apply", code=3).err
    assert "all its hot-plug ports are in use" in refused and "dacha restart" in refused
    lab("restart", "gauge", "--wait", "4min")
    assert sees(lab, {"vda": 16, "vdc": 24})


def test_a_kernel_without_the_driver_is_refused_with_the_reason(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(HEAD + 'disk = [{ size = "16 MiB", bus = "sata" }]\n')
    said = lab("apply", code=3).err
    assert "disk 0 is on sata, but neither its kernel nor its initrd has the driver ahci" in said
    assert "another bus (virtio, scsi, nvme)" in said
    lab.write(HEAD + 'firmware = "uefi"\n')
    assert "UEFI cannot start an uncompressed kernel" in lab("check", code=1).out
    lab.write(HEAD + "tpm = true\n")
    assert "does not work with a kernel" in lab("check", code=2).out


def test_the_clock_and_the_display_are_as_the_lab_says(guest_lab: Lab) -> None:
    lab = guest_lab
    text = HEAD.replace("@BOOT@", '@BOOT@\nclock = "local"\nscreen = { from = "host", port = 5977 }')
    lab.write(text)
    lab.file.write_text(lab.file.read_text().replace("video = false", 'resolution = "1024x768"'))
    lab("apply", env={"TZ": "PIER-5"})
    hour = int(lab("connect", "gauge", "--", "cat /sys/class/rtc/rtc0/time").out[:2])
    assert (hour - time.gmtime().tm_hour) % 24 in (5, 4)  # 4 when the hour has just turned
    assert_listens("127.0.0.1", 5977)
    lab.file.write_text(lab.file.read_text().replace("5977", "5978"))
    assert "its display listens for host on port 5978" in lab("apply").out
    assert_listens("127.0.0.1", 5978)
    lab.file.write_text(lab.file.read_text().replace('from = "host", port = 5978', 'from = "lan", port = 5978'))
    assert "its display is open to the whole LAN on port 5978" in lab("check").out


def assert_listens(address: str, port: int) -> None:
    """A VNC server answers there, and refuses every login without the password (RFC 6143 section 7.1)."""
    import socket

    with socket.create_connection((address, port), timeout=60) as s:
        assert s.recv(12).startswith(b"RFB 003.")
        s.sendall(b"RFB 003.008\n")
        count = s.recv(1)[0]
        assert s.recv(count) == b"\x02"  # VNC authentication only


@pytest.mark.parametrize("form", ["raw", "qcow2", "vmdk", "vdi", "vhdx"])
def test_images_of_every_format_become_disks(lab: Lab, form: str) -> None:
    """An image in another program's format is converted into a disk of its own; so is one that `copy` is said of."""
    raw = bytearray(8 << 20)
    raw[510:512] = b"\x55\xaa"
    raw[4 << 20 : (4 << 20) + 9] = b"readings!"
    (lab.folder / "tides.raw").write_bytes(raw)
    image = lab.folder / f"tides.{form}"
    if form != "raw":
        subprocess.run(["qemu-img", "convert", "-O", form, lab.folder / "tides.raw", image], check=True)
    lab("new", "pier")
    lab("guest", "add", "own", "--from", image.name, "--disk", "12MiB", "--copy")
    lab("guest", "add", "plain", "--from", image.name, "--disk", "8MiB")
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    for guest, size in (("own", 12), ("plain", 8)):
        disk = lab.guest_folder(guest) / "disk-0.qcow2"
        facts = json.loads(
            subprocess.run(["qemu-img", "info", "--output=json", disk], capture_output=True, check=True).stdout
        )
        assert facts["virtual-size"] == size << 20
        clone = guest == "plain" and form in ("raw", "qcow2")
        assert ("backing-filename" in facts) == clone
        out = subprocess.run(
            ["qemu-io", "-f", "qcow2", "-c", f"read -P {ord('r')} {4 << 20} 1", str(disk)],
            capture_output=True, text=True, check=True,
        ).stdout  # fmt: skip
        assert "Pattern verification failed" not in out and "read 1/1 bytes" in out


def test_no_space_a_lost_storage_and_a_disk_in_use_are_each_one_message(lab: Lab) -> None:
    """A small file system stands in for a full one."""
    small = lab.folder / "small"
    small.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", small], check=True)
    try:
        (lab.folder / "base.raw").write_bytes(b"\0" * 510 + b"\x55\xaa" + os.urandom(8 << 20) + b"\0" * 512)
        lab("new", "pier")
        lab.file.write_text(lab.file.read_text() + f'[storage.small]\npath = "{small}"\n')
        lab("guest", "add", "gauge", "--from", "base.raw", "--copy", "--storage", "small", "--disk", "10MiB")
        said = lab("apply", "--no-wait", code=3).err
        assert "no space for a copy of base.raw" in said and "is free" in said
        assert not list(small.rglob("*.qcow2")) and not list(small.rglob("*.part"))
    finally:
        subprocess.run(["umount", small], check=True)
    small.rmdir()
    assert "the folder of storage small does not exist" in lab("check", code=1).out
    small.mkdir()
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    disk = lab.guest_folder("gauge") / "disk-0.qcow2"
    holder = subprocess.Popen(["qemu-io", "-f", "qcow2", str(disk)], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    try:
        assert holder.stdin and holder.stdout
        holder.stdin.write(b"length\n")
        holder.stdin.flush()
        while b"MiB" not in holder.stdout.readline():
            pass
        said = lab("start", "gauge", "--no-wait", code=3).err
        assert f"disk 0 of gauge is in use by another program: qemu-io, process {holder.pid}" in said, said
    finally:
        holder.kill()
        holder.wait()
    # Gone from its storage, a disk is not silently made anew.
    where = disk.resolve()
    where.rename(lab.folder / "aside.qcow2")
    said = lab("start", "gauge", "--no-wait", code=3).err
    assert f"the contents of disk 0 of gauge are missing: {where}" in said
    assert not where.exists()


def test_a_disk_that_a_killed_command_had_made_is_found(lab: Lab) -> None:
    """Killed after the disk was whole and before it was said where it is: the next apply goes on with that one."""
    (lab.folder / "big").mkdir()
    lab("new", "pier")
    lab.file.write_text(lab.file.read_text() + f'[storage.big]\npath = "{lab.folder}/big"\n')
    lab("guest", "add", "gauge", "--disk", "1MiB", "--storage", "big", "--memory", "64MiB")
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    link = lab.guest_folder("gauge") / "disk-0.qcow2"
    target = link.resolve()
    made = target.stat().st_ino
    link.unlink()
    link.with_suffix(".json").unlink()
    said = lab("start", "gauge", "--no-wait", code=3).err
    assert "a disk of a guest gauge already exists" in said, "one that nobody noted is not taken"
    link.with_suffix(".making").write_text(str(target))
    lab("start", "gauge", "--no-wait")
    assert link.resolve().stat().st_ino == made and link.with_suffix(".json").is_file()
    assert not link.with_suffix(".making").exists()


def test_no_two_guests_disks_meet_in_a_storage(lab: Lab) -> None:
    """Whatever guests are called now, or were called once; and none is deleted with another's guest."""
    big = lab.folder / "big"
    big.mkdir()
    lab("new", "pier")
    lab.file.write_text(lab.file.read_text() + f'[storage.big]\npath = "{big}"\n')

    def guest(name: str, disk: str = "") -> None:
        lab("guest", "add", name, "--disk", "1MiB", "--storage", "big", "--memory", "64MiB")
        if disk:
            lab.file.write_text(lab.file.read_text().replace('storage = "big"', f'storage = "big", name = "{disk}"', 1))

    def file_of(name: str, disk: str = "0") -> Path:
        return (lab.guest_folder(name) / f"disk-{disk}.qcow2").resolve()

    guest("web", "db-0")
    guest("web-db")
    guest("a")
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    assert len({file_of("web", "db-0"), file_of("web-db"), file_of("a")}) == 3
    first = file_of("a")
    lab("guest", "rename", "a", "z")
    guest("a")
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    assert file_of("z") == first != file_of("a")
    # Somebody led two guests to one file, as an older version proposed: removing one leaves the other's.
    link = lab.guest_folder("a") / "disk-0.qcow2"
    lost = link.resolve()
    link.unlink()
    link.symlink_to(first)
    lab("guest", "remove", "a", "--with-disks")
    said = lab("apply", "--no-wait", code=None)
    assert "disk 0 of a is not deleted: z of lab pier uses the same file" in said.err + said.out
    assert first.is_file() and lost.is_file()


def test_missing_programs_and_firmware_say_which_package_brings_them(lab: Lab) -> None:
    """In a mount namespace in which the files are hidden."""
    lab("new", "pier")
    lab("guest", "add", "gauge", "--system", "windows", "--secure-boot")
    lab("guest", "add", "buoy")
    text = lab.file.read_text()
    lab.file.write_text(text.replace("[guest.buoy]", '[guest.buoy]\nboot-order = ["network"]'))
    hide = "mount -t tmpfs none /usr/share/OVMF && mount -t tmpfs none /usr/lib/ipxe && "
    hide += 'mount --bind /dev/null "$(command -v swtpm)" && exec "$@"'
    done = subprocess.run(
        ["unshare", "-m", "sh", "-c", hide, "sh", Path(os.sys.executable).with_name("dacha"), "check"],  # type: ignore[attr-defined]
        cwd=lab.folder, env=lab.env, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 1
    assert "this host has no UEFI firmware with Secure Boot for guests" in done.stdout
    assert "apt install ovmf" in done.stdout and "apt install swtpm" in done.stdout
    assert "no network boot ROMs" in done.stdout and "apt install ipxe-qemu" in done.stdout


def plays_tpm(lab: Lab) -> int:
    """The process that plays gauge's TPM, by the lock that it keeps."""
    lock = lab.guest_folder("gauge") / "tpm/process.lock"
    (pid,) = subprocess.check_output(["fuser", lock], stderr=subprocess.DEVNULL).split()
    return int(pid)


def test_a_tpm_lives_and_ends_with_its_guest_and_its_loss_is_said(lab: Lab) -> None:
    lab("new", "pier")
    lab("guest", "add", "gauge", "--disk", "8MiB", "--memory", "64MiB", "--tpm")
    lab("apply", "--no-wait")
    held = plays_tpm(lab)
    assert lab("diff").out == "pier: everything applied\n"
    os.kill(held, 9)
    wait_until_gone(held)
    assert "its TPM lost" in lab("status", code=None).out
    assert "the program that emulates it has exited" in lab("diff").out
    lab("restart", "gauge", "--force", "--wait", "0s")
    assert lab("diff").out == "pier: everything applied\n"
    held = plays_tpm(lab)
    lab("stop", "gauge", "--force", "--wait", "0s")
    wait_until_gone(held)


def test_what_plays_a_tpm_never_outlives_its_guest(lab: Lab) -> None:
    """Neither where it hangs, nor where QEMU ends before it has connected: the guest would never start again."""
    lab("new", "pier")
    lab("guest", "add", "gauge", "--disk", "8MiB", "--memory", "64MiB", "--tpm")
    lab("apply", "--no-wait")
    held = plays_tpm(lab)
    os.kill(held, signal.SIGSTOP)
    lab("stop", "gauge", "--force", "--wait", "0s")
    wait_until_gone(held)

    fake = lab.folder / "bin"
    fake.mkdir()
    (fake / "qemu-system-x86_64").symlink_to("/bin/false")
    path = {"PATH": f"{fake}:{lab.env['PATH']}"}
    assert "QEMU did not start gauge" in lab("start", "gauge", "--no-wait", env=path, code=3).err
    assert subprocess.run(["fuser", "-s", lab.guest_folder("gauge") / "tpm/process.lock"], check=False).returncode == 1
    lab("start", "gauge", "--no-wait")
    # Started again by what knows nothing of the program before: its guest was killed, and it hangs.
    held = plays_tpm(lab)
    os.kill(held, signal.SIGSTOP)
    kill(lab.pid("gauge"))
    lab("start", "gauge", "--no-wait")
    assert plays_tpm(lab) != held

    # What is not known is told, and left alone.
    lab("stop", "gauge", "--force", "--wait", "0s")
    with (lab.guest_folder("gauge") / "tpm/process.lock").open() as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        other = subprocess.Popen(["sleep", "60"], pass_fds=[lock.fileno()])
    with other:
        assert f"sleep, process {other.pid}" in lab("start", "gauge", "--no-wait", code=3).err
        assert other.poll() is None
        other.kill()
