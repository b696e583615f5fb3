"""An image of a guest, for others: what belongs to that guest alone is not in it, not even in its free space."""

from __future__ import annotations

import shlex
import shutil
import struct
import subprocess
from pathlib import Path

import pytest

from dacha.core.errors import AnswerNo
from dacha.core.inside.identity import homes, locked, mounts
from dacha.engine.archive.cleaning import clean
from dacha.formats.disk.partitions import Partition, file_system, partitions
from dacha.hypervisor.images.ext import Tree
from tests.conftest import Lab
from tests.states.test_encryption import secret
from tests.states.world import LAB, inside, with_agent

SECRETS = {
    "etc/ssh/ssh_host_ed25519_key": "HOST-KEY-OF-GAUGE", "home/ops/.ssh/id_ed25519": "PRIVATE-KEY-OF-OPS",
    "home/ops/.ssh/authorized_keys": "ssh-ed25519 KEY-THAT-OPENS", "etc/machine-id": "MACHINE-ID-OF-GAUGE",
    "var/lib/cloud/instances/one/user-data": "FIRST-BOOT-OF-GAUGE", "home/ops/.bash_history": "COMMANDS-OF-OPS",
    "var/log/journal/abc/system.journal": "JOURNAL-OF-GAUGE", "var/log/auth.log": "LOG-OF-GAUGE",
    "var/lib/systemd/random-seed": "SEED-OF-GAUGE", "etc/dacha-shares": "SHARE-PASSWORD",
}  # fmt: skip
KEPT = {"srv/tides": "TABLE-OF-TIDES", "etc/hostname": "gauge"}
SHADOW = "root:*:1::::::\nops:$6$salt$HASH-OF-OPS:1::::::\n"
PASSWD = "root:x:0:0::/root:/bin/sh\ndaemon:x:1:1::/usr/sbin:/bin/false\nops:x:1000:1000::/home/ops:/bin/sh\n"
MIB = 1 << 20


def made(folder: Path, *, first_boot: bool = True, file_system: str = "ext4") -> Path:
    """A disk with a boot sector, a Linux system on its first partition, and swap on its second one."""
    root, disk = folder / "root", folder / "system.img"
    shutil.rmtree(root, ignore_errors=True)
    for name, text in {**SECRETS, **KEPT, "etc/passwd": PASSWD, "etc/shadow": SHADOW}.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(f"{text}\n" if "/" in name and name != "etc/shadow" else text)
    (root / "etc/shadow").write_text(SHADOW)
    (root / "etc/shadow").chmod(0o640)
    (root / "etc/fstab").write_text("/dev/vda1 / ext4 defaults 0 1\n/swapfile none swap sw 0 0\n")
    (root / "var/lib/cloud/instance").symlink_to("instances/one")
    if first_boot:
        (root / "usr/bin").mkdir(parents=True)
        (root / "usr/bin/cloud-init").write_text("#!/bin/sh\n")
    with disk.open("wb") as f:
        f.truncate(80 * MIB)
        sector = bytearray(512)
        sector[0], sector[510:] = 0xEB, b"\x55\xaa"
        for n, (kind, first, count) in enumerate(((0x83, 2048, 122880), (0x82, 124928, 16384))):
            sector[446 + 16 * n + 4] = kind
            struct.pack_into("<II", sector, 446 + 16 * n + 8, first, count)
        f.write(sector)
        f.seek(124928 * 512 + 4086)
        f.write(b"SWAPSPACE2" + b"MEMORY-OF-GAUGE")
    options = ["-E", "offset=1048576", "-d", root, "-O", "^metadata_csum_seed,^orphan_file"]
    subprocess.run([f"mkfs.{file_system}", "-q", *options, disk, "60000k"], check=True)
    return disk


@pytest.fixture
def pier(guest_lab: Lab) -> Lab:
    """A guest whose disk is a Linux system, off."""
    made(guest_lab.folder)
    guest_lab.write(LAB.replace('{ size = "32 MiB" }', '{ from = "system.img" }'))
    guest_lab("start", "gauge", "--no-wait")
    guest_lab("stop", "gauge", "--force", "--wait", "0s")
    return guest_lab


def raw_of(lab: Lab, name: str) -> bytes:
    """The contents of an image in the store."""
    out = lab.folder / "whole.raw"
    stored = Path(lab("media", "show", name, "--json").json["file"])
    subprocess.run(["qemu-img", "convert", "-O", "raw", stored, out], check=True)
    return out.read_bytes()


def assert_clean(data: bytes) -> None:
    for text in (*SECRETS.values(), "HASH-OF-OPS", "MEMORY-OF-GAUGE"):
        assert text.encode() not in data, text
    for text in KEPT.values():
        assert text.encode() in data, text


def test_an_image_of_a_guest_has_nothing_of_its_identity(pier: Lab) -> None:
    said = pier("media", "add", "--from-guest", "gauge", "--name", "tide-base")
    for words in ("SSH host keys", "passwords of ops (locked)", "contents of the swap partition", "machine identity",
                  "/swapfile: a swap file", "dacha guest add NAME --from tide-base --kernel"):  # fmt: skip
        assert words in said.out, words
    data = raw_of(pier, "tide-base")
    assert_clean(data)
    # The file system is sound, its files have their owners, and the guest itself has everything as before.
    image = pier.folder / "part.raw"
    image.write_bytes(data[MIB : MIB + 61440 * 1024])
    tree = Tree(image)
    tree.check()
    assert tree.read("/etc/shadow") == "root:*:1::::::\nops:!:1::::::\n" and tree.read("/etc/machine-id") == ""
    shadow = next(e for e in tree.listed(["/etc"])["/etc"] if e.name == "shadow")
    assert shadow.mode == 0o640
    assert b"HOST-KEY-OF-GAUGE" in (pier.folder / "system.img").read_bytes()
    # New guests start from it.
    words = shlex.split(said.out.split("--from tide-base", 1)[1])
    pier("guest", "add", "heron", "--from", "tide-base", *words, "--memory", "64MiB")
    pier("start", "heron", "--no-wait")
    assert not list(pier.guest_folder("gauge").glob(".archive-*"))
    assert not list(Path(pier("media", "show", "tide-base", "--json").json["file"]).parent.glob(".*"))


def test_a_running_guest_is_imaged_as_it_is_at_that_moment(pier: Lab) -> None:
    pier("start", "gauge", "--no-wait")
    with_agent(pier)
    inside(pier, "mkdir -p /mnt; mount -t ext4 /dev/vda1 /mnt; echo JUST-WRITTEN > /mnt/srv/last; sync")
    answer = pier("media", "add", "--from-guest", "gauge", "--json").json
    assert answer["name"] == "gauge-image" and "SSH host keys (1 file)" in answer["cleaned"]["removed"]
    assert answer["cleaned"]["left"][0]["what"] == "/swapfile"
    data = raw_of(pier, "gauge-image")
    assert_clean(data)
    assert b"JUST-WRITTEN" in data
    assert inside(pier, "cat /mnt/etc/machine-id").endswith("MACHINE-ID-OF-GAUGE")


def test_what_no_first_boot_creates_anew_stays_and_is_reported(guest_lab: Lab) -> None:
    lab = guest_lab
    image = made(lab.folder, first_boot=False)
    done = clean(image)
    assert [what for what, _ in done.left][-3:] == ["SSH host keys", "keys that open accounts", "passwords of ops"]
    data = image.read_bytes()
    assert b"HOST-KEY-OF-GAUGE" in data and b"HASH-OF-OPS" in data and b"MACHINE-ID-OF-GAUGE" not in data


def test_what_cannot_be_cleaned_is_refused_with_the_way_out(guest_lab: Lab) -> None:
    pier = guest_lab
    with made(pier.folder).open("r+b") as f:
        f.seek(MIB)
        f.write(b"XFSB" + bytes(4096))
    pier.write(LAB.replace('{ size = "32 MiB" }', '{ from = "system.img" }'))
    refused = pier("media", "add", "--from-guest", "gauge", code=2)
    assert "has no disk yet" in refused.err and "dacha start gauge" in refused.err
    pier("start", "gauge", "--no-wait")
    refused = pier("media", "add", "--from-guest", "gauge", code=1)
    assert "partition 1: XFS, partition 2: swap" in refused.err and "--as-it-is" in refused.err
    assert pier("media", "list", "--json").json["media"] == []
    done = pier("media", "add", "--from-guest", "gauge", "--as-it-is")
    assert "has the identity of gauge" in done.err
    assert "already exists" in pier("media", "add", "--from-guest", "gauge", code=2).err
    assert "a source of its own" in pier("media", "add", "x.img", "--from-guest", "gauge", code=2).err
    assert "no source given" in pier("media", "add", code=2).err
    assert not list(pier.guest_folder("gauge").glob(".archive-*"))


def test_an_encrypted_or_damaged_disk_is_refused(guest_lab: Lab) -> None:
    lab = guest_lab
    secret(lab, "secret", "spring-tide-on-the-pier")
    lab.write(LAB.replace('disk = [{ size = "32 MiB" }]', 'disk = [{ size = "32 MiB", passphrase = "secret" }]'))
    lab("start", "gauge", "--no-wait")
    refused = lab("media", "add", "--from-guest", "gauge", code=1)
    assert "is encrypted, and the image would not be" in refused.err and "dacha guest save gauge FILE" in refused.err
    image = made(lab.folder)
    with image.open("r+b") as f:  # the table of inodes of its first group
        f.seek(MIB + 4096 * 40)
        f.write(bytes(range(256)) * 4000)
    with pytest.raises(Exception, match="a file system on the disk") as raised:
        clean(image)
    assert "fsck" in str(raised.value.remedy) or raised.value.why  # type: ignore[attr-defined]


def test_a_table_that_leads_beyond_the_disk_is_refused(tmp_path: Path) -> None:
    table = bytearray(1 << 20)
    table[510:512], table[512:520] = b"\x55\xaa", b"EFI PART"
    struct.pack_into("<QII", table, 512 + 72, (1 << 64) - 1, 128, 128)
    image = tmp_path / "disk.raw"
    image.write_bytes(table)
    with pytest.raises(AnswerNo, match="no Linux system"):
        clean(image)


def test_partitions_are_found_in_every_usual_table() -> None:
    def of(data: bytes, size: int = 1 << 40) -> list[Partition]:
        return partitions(lambda at, length: data[at : at + length], size)

    table = bytearray(40 * 512)
    table[510:512], table[512:520] = b"\x55\xaa", b"EFI PART"
    struct.pack_into("<QII", table, 512 + 72, 2, 128, 128)
    table[1024:1040] = b"\x01" * 16
    struct.pack_into("<QQ", table, 1024 + 32, 2048, 4095)
    struct.pack_into("<QQ", table, 1024 + 128 + 32, 1, 0)
    assert of(bytes(table)) == [Partition(1, MIB, MIB, "")]
    # Logical partitions; a chain that leads back to itself ends.
    logical = bytearray(64 * 512)
    logical[510:512] = b"\x55\xaa"
    logical[446 + 4] = 0x05
    struct.pack_into("<II", logical, 446 + 8, 8, 40)
    at = 8 * 512
    logical[at + 510 : at + 512], logical[at + 446 + 4], logical[at + 462 + 4] = b"\x55\xaa", 0x83, 0x05
    struct.pack_into("<II", logical, at + 446 + 8, 2, 4)
    struct.pack_into("<II", logical, at + 462 + 8, 16, 4)
    at = 24 * 512
    logical[at + 510 : at + 512], logical[at + 446 + 4], logical[at + 462 + 4] = b"\x55\xaa", 0x83, 0x05
    struct.pack_into("<II", logical, at + 446 + 8, 2, 4)
    struct.pack_into("<II", logical, at + 462 + 8, 16, 4)
    found = of(bytes(logical))
    assert [(p.number, p.start) for p in found[:2]] == [(5, 10 * 512), (6, 26 * 512)] and len(found) <= 128
    assert of(bytes(512)) == [] and of(b"\xff" * 70000) == []
    whole = bytes(1080) + b"\x53\xef" + bytes(1024)
    assert of(whole, len(whole)) == [Partition(0, 0, len(whole), "ext")]
    assert file_system(bytes(4086) + b"SWAPSPACE2") == "swap" and file_system(b"") == ""


def test_accounts_and_mounts_are_read_as_the_system_reads_them() -> None:
    assert homes(PASSWD + "bad\nweird:x:70000:1::/x:/y\nnobody:x:65534:1::/:/y\n") == ["/root", "/home/ops"]
    text, had = locked("root:!:1\nops:$y$x:1\nkim:!$6$old:2\nsys:*:3\nempty::1\n")
    assert text == "root:!:1\nops:!:1\nkim:!:2\nsys:*:3\nempty::1\n" and had == ["ops"]
    assert mounts('# a\nUUID="1-2" / ext4 x 0 1\n/sw none swap sw 0 0\n') == {"UUID=1-2": "/", "/sw": "swap"}
