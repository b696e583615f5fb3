"""Images that name files of this host: an administrator who downloads one gives nothing away."""

from __future__ import annotations

import json
import os
import struct
import subprocess
from collections.abc import Callable
from pathlib import Path

from tests.attacks.report import Report
from tests.conftest import Lab

SECRET = b"the harbour master's own"
MIB = 1 << 20


def tool(*arguments: object) -> None:
    subprocess.run(["qemu-img", *map(str, arguments)], check=True, capture_output=True)


def external_data(path: Path, secret: Path) -> None:
    """qcow2, whose contents lie in another file."""
    spare = path.with_suffix(".data")
    tool("create", "-f", "qcow2", "-o", f"data_file={spare},data_file_raw=on", path, "1M")
    _rename_inside(path, str(spare), str(secret))
    # Every cluster at the place in the file that a raw one has it.
    head = bytearray(path.read_bytes())
    table = int.from_bytes(head[40:48], "big")
    second = len(head) + 65535 & ~65535
    head = head.ljust(second, b"\0")
    head[table : table + 8] = struct.pack(">Q", second | 1 << 63)
    head += b"".join(struct.pack(">Q", n * 65536 | 1 << 63) for n in range(16))
    path.write_bytes(head.ljust(second + 65536, b"\0"))


def _rename_inside(path: Path, before: str, after: str) -> None:
    """Another name in a header, of the same length once it is padded with slashes."""
    data = path.read_bytes()
    padded = after.replace("/", "/" * (1 + len(before) - len(after)), 1) if len(after) < len(before) else after
    assert before.encode() in data and len(padded) == len(before)
    path.write_bytes(data.replace(before.encode(), padded.encode()))


def backing(path: Path, secret: Path) -> None:
    """qcow2, an overlay on the secret."""
    tool("create", "-u", "-f", "qcow2", "-b", secret, "-F", "raw", path, "1M")


def backing_by_options(path: Path, secret: Path) -> None:
    """qcow2, an overlay on what a JSON description names."""
    said = "json:" + json.dumps({"driver": "raw", "file": {"driver": "file", "filename": str(secret)}})
    tool("create", "-u", "-f", "qcow2", "-b", said, "-F", "raw", path, "1M")


def descriptor(path: Path, secret: Path) -> None:
    """VMDK, a text that names its extents."""
    path.write_text(
        '# Disk DescriptorFile\nversion=1\nCID=fffffffe\nparentCID=ffffffff\ncreateType="monolithicFlat"\n'
        f'RW 2048 FLAT "{secret}" 0\nddb.adapterType = "ide"\n'
    )


def sparse_descriptor(path: Path, secret: Path) -> None:
    """VMDK, a sparse one without contents whose embedded text names its extents."""
    text = (
        '# Disk DescriptorFile\nversion=1\nCID=fffffffe\nparentCID=ffffffff\ncreateType="monolithicFlat"\n'
        f'RW 2048 FLAT "{secret}" 0\n'
    ).encode()
    head = b"KDMV" + struct.pack("<IIQQQQIQQQB", 1, 3, 0, 128, 1, 20, 512, 0, 0, 21, 0) + b"\n \r\n" + b"\0" * 2
    path.write_bytes(head.ljust(512, b"\0") + text.ljust(20 * 512, b"\0") + bytes(64 * 512))


def parent(path: Path, secret: Path) -> None:
    """VMDK, a sparse one that lies on another."""
    tool("create", "-f", "vmdk", path, "1M")
    data = path.read_bytes()
    at = data.index(b"parentCID=ffffffff")
    line = f'parentCID=fffffffe\nparentFileNameHint="{secret}"\n'.encode()
    path.write_bytes(data[:at] + line + data[at + len(line) :])


def unknown_feature(path: Path, secret: Path) -> None:
    """qcow2 with a feature that nobody knows yet, and whatever it may read."""
    tool("create", "-f", "qcow2", path, "1M")
    data = bytearray(path.read_bytes())
    data[72:80] = (1 << 40).to_bytes(8, "big")
    path.write_bytes(data)


EVIL: tuple[tuple[str, Callable[[Path, Path], None]], ...] = (
    ("qcow2", external_data), ("qcow2", backing), ("qcow2", backing_by_options), ("vmdk", descriptor),
    ("vmdk", sparse_descriptor), ("vmdk", parent), ("qcow2", unknown_feature),
)  # fmt: skip


def leaked(lab: Lab) -> str:
    """Which disks of the lab hold the secret, followed as QEMU would follow them."""
    found = []
    for disk in (lab.folder / "state").rglob("disk-*.qcow2"):
        out = lab.folder / "contents"
        done = subprocess.run(["qemu-img", "convert", "-U", "-O", "raw", disk, out], check=False, capture_output=True)
        if done.returncode == 0 and SECRET in out.read_bytes():
            found.append(disk.parent.name)
    return ", ".join(found)


def test_an_image_reads_no_file_of_this_host(lab: Lab) -> None:
    report = Report()
    secret = lab.folder / "secret"
    secret.write_bytes(SECRET.ljust(510, b" ") + b"\x55\xaa" + bytes(MIB - 512))
    secret.chmod(0o600)
    lab("new", "siege")
    for n, (suffix, make) in enumerate(EVIL):
        path = lab.folder / f"{make.__name__}.{suffix}".replace("_", "-")
        make(path, secret)
        name = make.__doc__ or ""
        for how, options in (("clone", ()), ("copy", ("--copy",))):
            lab.file.write_text('[lab]\nname = "siege"\n')
            lab("guest", "add", f"{how}{n}", "--from", path.name, *options, "--anyway", code=None)
            said = lab("apply", "--no-wait", code=None)
            report.shut(f"{name} {how}", leaked(lab))
            report.open(f"{name} {how}: refused in words", said.code == 3 and "image" in said.err and not said.out)
            lab("stop", "--all", "--force", "--wait", "0s", code=None)
        said = lab("media", "add", str(path), "--name", "evil", code=None)
        report.shut(f"{name} into the store", said.out if said.code == 0 else "")
        lab("media", "remove", "evil", code=None)
    report.judge()


def test_a_good_chain_still_works(lab: Lab) -> None:
    """An overlay whose base is a medium of the store is used with it; on anything else it is not."""
    lab("new", "siege")
    base = lab.folder / "base.raw"
    base.write_bytes((b"tides".ljust(510, b" ") + b"\x55\xaa").ljust(MIB, b"\0"))
    lab("media", "add", str(base), "--name", "base")
    stored = next((lab.folder / "state/media").glob("base.img"))
    over = lab.folder / "over.qcow2"
    tool("create", "-f", "qcow2", "-b", stored, "-F", "raw", over, "1M")
    lab("guest", "add", "gauge", "--from", "over.qcow2", "--disk", "1MiB")
    lab("guest", "add", "charts", "--from", "over.qcow2", "--disk", "1MiB", "--copy")
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    for guest in ("gauge", "charts"):
        tool("convert", "-O", "raw", lab.guest_folder(guest) / "disk-0.qcow2", lab.folder / "contents")
        assert (lab.folder / "contents").read_bytes()[:5] == b"tides"
    tool("create", "-f", "qcow2", "-b", base, "-F", "raw", over, "1M")
    lab("guest", "add", "tower", "--from", "over.qcow2", "--disk", "1MiB", "--anyway", code=None)
    said = lab("apply", "--no-wait", code=3).err
    assert "over.qcow2 depends on another file" in said and "dacha media add" in said


def test_a_disk_whose_header_was_rewritten_is_not_followed(lab: Lab) -> None:
    """A guest's process that was taken over writes what it likes into its own disk's header."""
    report = Report()
    lab("new", "siege")
    base = lab.folder / "base.raw"
    base.write_bytes((b"tides".ljust(510, b" ") + b"\x55\xaa").ljust(MIB, b"\0"))
    lab("guest", "add", "gauge", "--from", "base.raw", "--disk", "1MiB")
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    disk = lab.guest_folder("gauge") / "disk-0.qcow2"
    # Whoever opens it waits for ever: so it is seen that nobody does.
    trap = lab.folder / "trap"
    os.mkfifo(trap)
    clean = disk.read_bytes()
    for what, words in (("another backing file", ["-b", trap, "-F", "raw"]), ("nothing below", ["-b", ""])):
        tool("rebase", "-u", "-f", "qcow2", *words, disk)
        said = lab("start", "gauge", code=3, timeout=30)
        report.open(f"a start with {what} is refused in words", "refers to another backing file" in said.err)
        report.open(f"with {what}: status still answers", lab("status", code=None, timeout=30).code in (0, 1))
        disk.write_bytes(clean)
    head = bytearray(clean)
    head[72:80] = (4).to_bytes(8, "big")
    disk.write_bytes(head)
    report.open(
        "a start with a file for its contents is refused", lab("start", "gauge", code=3).err.count("another file")
    )
    disk.write_bytes(clean)
    # A disk of an older dacha has no note: it goes on as it is, and is noted from then on.
    disk.with_suffix(".json").unlink()
    lab("start", "gauge", "--no-wait")
    report.open("an older disk is noted at its next start", disk.with_suffix(".json").is_file())
    report.judge()
