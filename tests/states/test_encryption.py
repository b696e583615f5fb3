"""An encrypted disk tells nothing without its passphrase, and the passphrase is nowhere to be read while it is used."""

from __future__ import annotations

import contextlib
import os
import pty
import select
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Lab
from tests.networks.world import until
from tests.states.test_moving import first_line_of
from tests.states.world import LAB, inside, state

PASSPHRASE, TEXT = "spring-tide-on-the-pier", "known-plain-text-of-the-tide-tables"
ENCRYPTED = LAB.replace('disk = [{ size = "32 MiB" }]', 'disk = [{ size = "32 MiB", passphrase = "secret" }]')


@pytest.fixture
def pier(guest_lab: Lab) -> Lab:
    secret(guest_lab, "secret", PASSPHRASE)
    guest_lab.write(ENCRYPTED)
    return guest_lab


def secret(lab: Lab, name: str, text: str) -> None:
    (lab.folder / name).write_text(text + "\n")
    (lab.folder / name).chmod(0o600)


def put(lab: Lab, text: str = TEXT) -> None:
    inside(lab, f"yes {text} | head -n 2000 > /run/text; dd if=/run/text of=/dev/vda bs=4k conv=fsync 2> /dev/null")


def got(lab: Lab, guest: str = "gauge") -> str:
    """The first line of its disk; right after a start its console may have other things to say."""
    for _ in range(20):
        said = inside(lab, "dd if=/dev/vda bs=4k count=1 iflag=direct 2> /dev/null | head -n 1", guest).split()
        if said and said[-1].isprintable() and "text" in said[-1]:
            break
        time.sleep(0.5)
    return said[-1] if said else ""


def disk(lab: Lab, guest: str = "gauge") -> Path:
    return (lab.guest_folder(guest) / "disk-0.qcow2").resolve()


def readable(pid: int) -> bytes:
    """Everything of a process that can be read like a file: its arguments, environment, and open files."""
    place = Path(f"/proc/{pid}")
    found = (place / "cmdline").read_bytes() + (place / "environ").read_bytes()
    for fd in (place / "fd").iterdir():
        leads = str(fd.readlink())
        if leads.startswith(("/", "pipe:")) and not leads.startswith("/dev"):
            with contextlib.suppress(OSError), open(os.open(fd, os.O_RDONLY | os.O_NONBLOCK), "rb") as f:
                found += f.read(4096) or b""
    return found


def everywhere(lab: Lab, *, but: tuple[str, ...] = ("secret", "console.log")) -> bytes:
    """Every file that Dacha or QEMU wrote, logs and records included; but what was typed on the console."""
    found = b""
    for place in (lab.folder, Path(lab.env["DACHA_RUN"])):
        for path in place.rglob("*"):
            if path.is_file() and not path.is_symlink() and path.name not in but:
                found += path.read_bytes()
    return found


def test_neither_the_contents_nor_the_passphrase_can_be_read(pier: Lab) -> None:
    lab = pier
    lab("apply")
    put(lab)
    assert got(lab) == TEXT
    told = readable(lab.pid("gauge"))
    assert len(told) > 200 and PASSPHRASE.encode() not in told
    limits = Path(f"/proc/{lab.pid('gauge')}/limits").read_text()
    assert "Max core file size        0" in limits
    files = everywhere(lab)
    assert TEXT.encode() not in files and PASSPHRASE.encode() not in files
    # The same text on a disk that is not encrypted is found: the look is a look.
    lab("guest", "edit", "gauge", "--add-disk", "8MiB")
    lab("restart", "gauge", "--force")
    found = "$(grep -lx 16384 /sys/block/vd*/size | cut -d/ -f4)"
    inside(lab, f"yes {TEXT} | head -n 90 > /run/text; dd if=/run/text of=/dev/{found} bs=4k conv=fsync 2> /dev/null")
    assert TEXT.encode() in everywhere(lab)
    assert got(lab) == TEXT
    assert "memory of gauge cannot be saved" in lab("pause", "gauge", "--save", code=1).err
    assert "is encrypted" in lab("snapshot", "add", "here", "gauge", "--memory", code=1).err and state(lab) == "on"


@pytest.mark.whole
def test_a_wrong_passphrase_is_one_clear_message_and_the_right_one_works(pier: Lab) -> None:
    lab = pier
    lab("apply", "--no-wait")
    put(lab)
    lab("stop", "gauge", "--force", "--wait", "0s")
    secret(lab, "secret", "neap-tide")
    done = lab("start", "gauge", "--no-wait", code=3)
    assert "the passphrase of a disk of gauge is wrong (0)" in done.err and "Invalid password" not in done.err
    assert "the passphrase is wrong" in lab("snapshot", "add", "here", "gauge", code=3).err
    (lab.folder / "secret").chmod(0o644)
    assert "others may read" in lab("start", "gauge", "--no-wait", code=3).err
    (lab.folder / "secret").unlink()
    assert "cannot be read" in lab("start", "gauge", "--no-wait", code=3).err
    secret(lab, "secret", PASSPHRASE)
    lab("start", "gauge", "--no-wait")
    assert got(lab) == TEXT
    # Another place of the same passphrase counts from the next apply on.
    secret(lab, "elsewhere", PASSPHRASE)
    (lab.folder / "secret").unlink()
    lab.write(lab.file.read_text().replace('"secret"', '"elsewhere"'))
    lab("restart", "gauge", "--force", "--no-wait")
    assert got(lab) == TEXT


@pytest.mark.whole
def test_all_that_is_done_with_a_disk_is_done_with_an_encrypted_one(pier: Lab) -> None:
    lab = pier
    (lab.folder / "big").mkdir()
    lab.write(lab.file.read_text().replace("[guest.gauge]", '[storage.big]\npath = "big"\n[guest.gauge]'))
    lab("apply", "--no-wait")
    put(lab)
    lab("snapshot", "add", "on", "gauge")
    put(lab, "another-text")
    lab("stop", "gauge", "--force", "--wait", "0s")
    lab("snapshot", "add", "off", "gauge")
    lab("snapshot", "restore", "on", "gauge", "--yes")
    lab("snapshot", "remove", "on", "gauge")
    lab("snapshot", "remove", "off", "gauge")
    lab("guest", "edit", "gauge", "--disk", "40MiB")
    lab("guest", "compact", "gauge")
    lab("apply", "--no-wait")
    lab("start", "gauge", "--no-wait")
    assert got(lab) == TEXT and inside(lab, "cat /sys/block/vda/size").split()[-1] == str(40 << 11)
    lab("guest", "edit", "gauge", "--move-disk", "big")
    lab("apply", "--no-wait")
    assert got(lab) == TEXT and disk(lab).is_relative_to(lab.folder / "big")
    # Copies and archives are encrypted, too; of a running guest and of one that is off.
    for n, on in enumerate((True, False)):
        lab("guest", "copy", "gauge", f"copy{n}")
        lab("guest", "save", "gauge", f"gauge{n}.guest")
        lab("guest", "load", f"gauge{n}.guest", f"load{n}")
        for name in (f"copy{n}", f"load{n}"):
            assert first_line_of(disk(lab, name), PASSPHRASE) == TEXT, name
        if on:
            lab("stop", "gauge", "--force", "--wait", "0s")
    assert TEXT.encode() not in everywhere(lab)
    assert 'passphrase = "secret"' in lab.file.read_text().partition("[guest.load1]")[2]


def on_terminal(lab: Lab, words: list[str], answers: list[str]) -> tuple[int, str]:
    """Run a command on a terminal, and answer its prompts; its exit code, and what the terminal showed."""
    parent, child = pty.openpty()
    process = subprocess.Popen([PROGRAM, *words], cwd=lab.folder, env=lab.env, stdin=child, stdout=child, stderr=child,
                               start_new_session=True)  # fmt: skip
    os.close(child)
    shown, deadline = "", time.monotonic() + 120
    try:
        while time.monotonic() < deadline:
            if select.select([parent], [], [], 0.2)[0]:
                try:
                    shown += os.read(parent, 4096).decode(errors="replace")
                except OSError:
                    break
            if answers and shown.rstrip().endswith(":"):
                os.write(parent, answers.pop(0).encode() + b"\n")
                shown += "…\n"
        return process.wait(60), shown
    finally:
        process.kill()
        os.close(parent)


@pytest.mark.whole
def test_a_passphrase_that_is_asked_for_and_changed(pier: Lab) -> None:
    lab = pier
    lab.write(ENCRYPTED.replace('"secret"', '"ask"'))
    done = lab("apply", "--no-wait", code=3, stdin=subprocess.DEVNULL)
    assert "standard input is not a terminal" in done.err
    # The words differ once; then it is taken, and asked for at each start.
    code, shown = on_terminal(lab, ["apply", "--no-wait"], [PASSPHRASE, "another"])
    assert code == 3 and "the two passphrases differ" in shown, shown
    code, shown = on_terminal(lab, ["apply", "--no-wait"], [PASSPHRASE, PASSPHRASE])
    assert code == 0 and PASSPHRASE not in shown, shown
    put(lab)
    assert "is on, and uses the disk" in lab("guest", "passphrase", "gauge", "--to", "secret", code=1).err
    lab("stop", "gauge", "--force", "--wait", "0s")
    code, shown = on_terminal(lab, ["start", "gauge", "--no-wait"], ["wrong"])
    assert code == 3 and "is wrong" in shown, shown
    secret(lab, "new", "storm-surge")
    code, shown = on_terminal(lab, ["guest", "passphrase", "gauge", "--to", "new"], [PASSPHRASE])
    assert code == 0 and 'passphrase = "new"' in lab.file.read_text(), shown
    lab("start", "gauge", "--no-wait")
    assert got(lab) == TEXT
    lab("stop", "gauge", "--force", "--wait", "0s")
    opened = ["qemu-img", "info", "--object", f"secret,id=k,data={PASSPHRASE}", "--image-opts",
              f"driver=qcow2,encrypt.key-secret=k,file.filename={disk(lab)}"]  # fmt: skip
    for command in (["check", *opened[2:]], ["check", *(w.replace(PASSPHRASE, "storm-surge") for w in opened[2:])]):
        done = subprocess.run(["qemu-img", *command], capture_output=True, text=True, check=False)
        assert (done.returncode == 0) is ("storm-surge" in str(command)), done
    # A service gets it as a credential.
    folder = lab.folder / "credentials"
    folder.mkdir()
    secret(lab, "credentials/gauge", "storm-surge")
    lab.write(lab.file.read_text().replace('passphrase = "new"', 'passphrase = "credential:gauge"'))
    assert "is a credential of a service" in lab("start", "gauge", "--no-wait", code=3).err
    lab("start", "gauge", "--no-wait", env={"CREDENTIALS_DIRECTORY": str(folder)})
    until(lambda: got(lab) == TEXT)


@pytest.mark.whole
def test_an_encrypted_disk_on_an_image_grows_and_changes_its_passphrase(pier: Lab) -> None:
    lab = pier
    base = lab.folder / "base.qcow2"
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", base, "32M"], check=True)
    lab.write(ENCRYPTED.replace('size = "32 MiB"', 'from = "base.qcow2"'))
    lab("apply", "--no-wait")
    put(lab)
    lab("stop", "gauge", "--force", "--wait", "0s")
    secret(lab, "new", "storm-surge")
    lab("guest", "passphrase", "gauge", "--to", "new")
    lab("guest", "edit", "gauge", "--disk", "40MiB")
    lab("apply", "--no-wait")
    lab("start", "gauge", "--no-wait")
    assert got(lab) == TEXT and inside(lab, "cat /sys/block/vda/size").split()[-1] == str(40 << 11)


def test_bad_input_about_encryption(pier: Lab) -> None:
    lab = pier
    assert "does not exist yet" in lab("guest", "passphrase", "gauge", code=2).err
    # A file that is missing, or open to others, is told before anything is started, and refused when it is written.
    (lab.folder / "secret").chmod(0o640)
    assert "others may read" in lab("check", code=1).out
    done = lab("guest", "add", "heron", "--disk", "8MiB", "--passphrase", "nowhere", code=2)
    assert "cannot be read" in done.err and "heron" not in lab.file.read_text()
    lab.write(LAB)
    lab("apply", "--no-wait")
    assert "has no encrypted disk" in lab("guest", "passphrase", "gauge", code=2).err
    lab("stop", "gauge", "--force", "--wait", "0s")
    # An encrypted image of somebody else is no image for a guest.
    image = lab.folder / "theirs.qcow2"
    made = ["qemu-img", "create", "-q", "--object", "secret,id=k,data=x", "-f", "qcow2", "-o",
            "encrypt.format=luks,encrypt.key-secret=k,encrypt.iter-time=10", image, "8M"]  # fmt: skip
    subprocess.run(made, check=True)
    assert "is encrypted" in lab("guest", "add", "heron", "--from", "theirs.qcow2", code=None).err
    # A guest's disk in whose place another one was put is not opened.
    (lab.guest_folder("gauge") / "disk-0.qcow2").write_bytes(image.read_bytes())
    assert "it is now encrypted" in lab("start", "gauge", "--no-wait", code=3).err
