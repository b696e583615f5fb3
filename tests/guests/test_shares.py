"""A folder of this host in a guest: both ways, whole, as who it is; also after the guest was killed; and none that
gives this host away."""

from __future__ import annotations

import contextlib
import hashlib
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from dacha.hypervisor.beside import share_server
from tests.conftest import Lab

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "host", port = 2291 }
share.tides = { folder = "tides", at = "/srv/tides" }
share.charts = { folder = "charts, old", at = "/srv/charts", read-only = true }
"""
# Somebody on this host whom no guest knows.
OWNER = 4321
SUMS = "cd {0} && find . -type f | sort | xargs md5sum | md5sum"


def sums(lab: Lab, folder: str) -> str:
    return lab("connect", "gauge", "--", SUMS.format(folder), timeout=240).out.split()[0]


def sums_here(folder: Path) -> str:
    done = subprocess.run(["sh", "-c", SUMS.format(f"'{folder}'")], capture_output=True, text=True, check=True)
    return done.stdout.split()[0]


def served(lab: Lab) -> list[str]:
    """The daemons that serve this lab's folders."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            if f"DACHA_SHARE={lab.folder}".encode() in (process / "environ").read_bytes():
                found.append(process.name)
    return found


@pytest.mark.parametrize(("files", "mib"), [(80, 4), pytest.param(1000, 50, marks=pytest.mark.whole)])
def test_folders_are_shared_both_ways(guest_lab: Lab, files: int, mib: int) -> None:
    lab, tides, charts = guest_lab, guest_lab.folder / "tides", guest_lab.folder / "charts, old"
    for folder in (tides, charts):
        folder.mkdir()
        (folder / "inner").mkdir()
        for n in range(files):
            (folder / "inner" / f"reading {n}").write_bytes(hashlib.sha256(f"{folder.name} {n}".encode()).digest())
    with (tides / "large").open("wb") as f:
        for _ in range(mib):
            f.write(os.urandom(1 << 20))
    (tides / "out").symlink_to("/etc")
    for path in (tides, *tides.rglob("*")):
        os.chown(path, OWNER, OWNER, follow_symlinks=False)
    lab.write(LAB)
    lab("apply", timeout=240)
    assert len(served(lab)) == 4  # each has a child that it looks after
    assert sums(lab, "/srv/tides") == sums_here(tides) and sums(lab, "/srv/charts") == sums_here(charts)

    # What its user makes is the folder's owner's here; nothing of it has powers; what is read-only stays as it is.
    write = "cp -r /srv/tides/inner /srv/tides/more; cp /srv/tides/large /srv/tides/again; chmod 4755 /srv/tides/again"
    lab("connect", "gauge", "--", f"{write}; id -u; ls -ld /srv/tides", timeout=240)
    seen = (tides / "again").stat()
    assert (seen.st_uid, seen.st_gid) == (OWNER, OWNER) == ((tides / "more").stat().st_uid, OWNER)
    assert hashlib.md5((tides / "again").read_bytes()).digest() == hashlib.md5((tides / "large").read_bytes()).digest()
    assert len(list((tides / "more").iterdir())) == files
    said = lab("connect", "gauge", "--", "touch /srv/charts/x; ls /srv/tides/out/passwd; mount", code=None)
    assert "Read-only file system" in said.err and not (charts / "x").exists()
    # A link leads to the guest's own files, and not to this host's.
    assert "ops" in lab("connect", "gauge", "--", "cat /srv/tides/out/passwd").out

    before = sums_here(tides)
    lab.pid("gauge")
    os.kill(lab.pid("gauge"), 9)
    deadline = time.monotonic() + 120
    while served(lab):
        assert time.monotonic() < deadline, served(lab)
        time.sleep(0.1)
    lab("apply", timeout=240)
    assert sums(lab, "/srv/tides") == before == sums_here(tides)

    # Taken away with a word on what that waits for.
    lab("share", "remove", "gauge", "charts")
    assert "shared folders tides, charts → tides" in lab("diff").out
    lab("restart", "gauge", "--wait", "4min", timeout=600)
    assert "charts" not in lab("connect", "gauge", "--", "mount").out and len(served(lab)) == 2
    tides.rename(lab.folder / "gone")
    lab("stop", "gauge", "--force", "--wait", "0s")
    refused = lab("start", "gauge", code=None)
    assert refused.code in (2, 3) and "mkdir" in refused.err


def test_a_share_is_edited_in_the_file(lab: Lab) -> None:
    lab.write(LAB.replace("@BOOT@", "").partition("share.tides")[0])
    (lab.folder / "tides").mkdir()
    done = lab("share", "add", "gauge", "tides", "--folder", "tides", "--read-only").out
    assert "tides at /srv/tides, read-only, owned by user 1000" in done
    assert 'share.tides = { folder = "tides", at = "/srv/tides", read-only = true }' in lab.file.read_text()
    assert "already has a share tides" in lab("share", "add", "gauge", "tides", code=2).err
    assert "read, write" in lab("share", "edit", "gauge", "tides", "--no-read-only").out + lab("share", "list").out
    row = {"guest": "gauge", "name": "tides", "folder": str(lab.folder / "tides"), "at": "/srv/tides",
           "read_only": False, "owner": 1000, "by": "virtio-fs"}  # fmt: skip
    assert lab("share", "list", "--json").json["shares"] == [row]
    assert "did you mean tides?" in lab("share", "edit", "gauge", "tidse", "--owner", "0", code=2).err
    lab("share", "remove", "gauge", "tides")
    assert "share" not in lab.file.read_text() and (lab.folder / "tides").is_dir()


@pytest.mark.parametrize(
    ("folder", "words"),
    [
        ("/", "the root file system"), ("/etc/ssl", "controls this host"), ("/etc", "controls this host"),
        ("/proc", "controls this host"),
        ("/home", "the whole of /home"), ("/root", "it is a home folder"), (".", "the guests' disks and keys"),
        ("link", "controls this host"),
        ("state/labs", "the guests' disks and keys"), ("none", "No such file"), ("lab.toml", "is not a folder"),
    ],
)  # fmt: skip
def test_what_gives_this_host_away_is_not_shared(lab: Lab, folder: str, words: str) -> None:
    lab.write(LAB.replace("@BOOT@", "").partition("share.tides")[0])
    (lab.folder / "link").symlink_to("/etc")
    (lab.folder / "state/labs").mkdir(parents=True)
    before = lab.file.read_text()
    assert words in lab("share", "add", "gauge", "x", "--folder", folder, code=2).err
    assert lab.file.read_text() == before
    if words not in ("No such file", "is not a folder"):
        assert "now has" in lab("share", "add", "gauge", "x", "--folder", folder, "--anyway").out


def test_neither_the_lab_file_nor_a_key_of_the_lab_is_shared(lab: Lab) -> None:
    """A guest that writes the lab file would say what this host does at the next apply."""
    lab.write(LAB.replace("@BOOT@", 'login = { user = "ops", keys = ["keys/id.pub"] }').partition("share.tides")[0])
    lab.env |= {k: str(lab.folder.parent / f"{lab.folder.name}-{k}") for k in ("DACHA_STATE", "DACHA_SHARED")}
    said = lab("share", "add", "gauge", "all", "--folder", ".", "--no-read-only", code=2).err
    assert "lab.toml is in it" in said and "--read-only" in said and "--anyway" in said
    # Without a word it is shared for reading only.
    said = lab("share", "add", "gauge", "all", "--folder", ".")
    assert "the guest can only read it" in said.err and ", read-only" in said.out
    assert "lab.toml is in it" in lab("share", "edit", "gauge", "all", "--no-read-only", code=2).err
    (lab.folder / "keys").mkdir()
    (lab.folder / "keys/id.pub").write_text("x")
    (lab.folder / "keys/id").write_text("x")
    assert "private key id is in it" in lab("share", "add", "gauge", "keys", "--read-only", code=2).err
    assert "private key id is in it" in lab("check", code=None).out


def test_a_folder_that_was_put_in_its_place_meanwhile_is_not_served(tmp_path: Path) -> None:
    """What is served is what was judged: somebody who owns the folder above may put a link there in between."""
    (tmp_path / "tides").mkdir()
    words = ["0", str(tmp_path / "tides"), "1:1", "0", "0", "1000", "1000", "rw", "/bin/true"]
    argv = [sys.executable, "-I", "-S", share_server.__file__, *words]
    done = subprocess.run(argv, capture_output=True, text=True, stdin=subprocess.DEVNULL, check=False)
    assert done.returncode == 1 and "was replaced a moment ago" in done.stderr and "ready" not in done.stdout


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ('share.x = { folder = "tides", at = "srv" }', "not a valid mount point"),
        ('share.x = { folder = "tides", at = "/srv/../etc" }', "not a valid mount point"),
        ('share.x = { folder = "tides", at = "/srv/a b" }', "not a valid mount point"),
        ('share.x = { folder = "tides" }', "at"),
        ('share.x = { folder = "tides", at = "/srv", owner = "ops" }', "owner"),
        (f'share.{"x" * 37} = {{ folder = "tides", at = "/srv" }}', "36 letters"),
    ],
)
def test_a_wrong_share_is_named(lab: Lab, line: str, words: str) -> None:
    (lab.folder / "tides").mkdir()
    lab.write(LAB.replace("@BOOT@", "").partition("share.tides")[0] + line + "\n")
    assert words in lab("check", code=2).out
