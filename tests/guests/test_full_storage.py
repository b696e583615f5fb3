"""The storage of a guest's disk fills up: its system is held, and goes on when there is room, with nothing lost."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import Lab

TEXT = """\
[lab]
name = "full"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
disk = [{ size = "2 MiB" }, { size = "32 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "host" }
"""
# What it writes, in bytes: more than there is room for.
SIZE = 12 << 20
HELD = "suspended, the host file system that holds its disks is full"


@pytest.fixture
def storage(guest_lab: Lab) -> Iterator[Path]:
    """Where the lab's disks are: a file system of its own, which `resize` makes larger."""
    state = guest_lab.folder / "state"
    state.mkdir(exist_ok=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=9m,mode=700", "tmpfs", state], check=True)
    yield state
    resize(state, 64)
    guest_lab("stop", "--all", "--force", "--wait", "0s", code=None)
    subprocess.run(["umount", "--lazy", state], check=True)


def resize(state: Path, size: int) -> None:
    subprocess.run(["mount", "-o", f"remount,size={size}m", state], check=True)


def fill(state: Path) -> None:
    """Take all the room that is left."""
    for block in ("4k", "1"):
        command = ["dd", "if=/dev/zero", f"of={state}/filler-{block}", f"bs={block}"]
        subprocess.run(command, stderr=subprocess.DEVNULL, check=False)


@contextlib.contextmanager
def console_of(lab: Lab) -> Iterator[socket.socket]:
    """The guest's console, where it is root. Held, for what was typed goes through it letter by letter."""
    with socket.socket(socket.AF_UNIX) as console:
        console.connect(f"{lab.env['DACHA_RUN']}/full/gauge/serial")
        yield console


def await_words(lab: Lab, words: str, *command: str) -> str:
    deadline = time.monotonic() + 180
    while words not in (said := lab(*command, code=None).out):
        assert time.monotonic() < deadline, said[-1000:]
        time.sleep(0.2)
    return str(said)


def broken(lab: Lab, words: str) -> str:
    """The remedy of the hop `guest`, which says this."""
    (hop,) = (h for h in lab("trace", "gauge", "--json", code=1).json["hops"] if h["name"] == "guest")
    assert hop["verdict"] == "broken" and words in hop["means"]
    return str(hop["remedy"])


def test_a_guest_whose_storage_is_full_goes_on_when_there_is_room_and_loses_nothing(
    guest_lab: Lab, storage: Path
) -> None:
    lab = guest_lab
    lab.write(TEXT)
    lab("apply")
    with console_of(lab) as console:
        console.sendall(f"head -c {SIZE} /dev/urandom > /tide; cat /tide > /dev/vdc; sync; echo writ''ten\n".encode())
        assert "guest is suspended: dacha trace gauge ssh" in await_words(lab, HELD, "status")
        fill(storage)
        remedy = broken(lab, f"0 B is free in {storage.resolve()}")
        assert remedy == "free some space there, then: dacha resume gauge"
        # Nothing that cannot be done is begun, and nobody waits for what cannot come.
        assert "is suspended" in lab("connect", "gauge", "true", code=1).err
        assert "gauge would be suspended again" in lab("resume", "gauge", code=1).err
        assert "No space left" in lab("restart", "gauge", "--force", "--wait", "0s", code=3).err
        assert "gauge does not respond to the power button" in lab("stop", "gauge", code=1).err
        resize(storage, 32)
        assert broken(lab, "its last writes are pending") == "dacha resume gauge"
        lab("resume", "gauge")
        await_words(lab, "written", "console", "gauge", "--record")
        again = f"echo 3 > /proc/sys/vm/drop_caches; head -c {SIZE} /dev/vdc | cmp - /tide && echo all''there\n"
        console.sendall(again.encode())
        await_words(lab, "allthere", "console", "gauge", "--record")
    # It can be stopped on a full disk; that this was meant is noted when there is room.
    fill(storage)
    refused = lab("stop", "gauge", "--force", "--wait", "0s", code=3)
    assert "gauge  " in refused.out and "powered off" in refused.out
    assert "gauge is off, but Dacha could not record this" in refused.err and "then: dacha stop gauge" in refused.err
    assert "1 guest, 0 on" in lab("status").out
    resize(storage, 64)
    lab("stop", "gauge")
    assert lab("diff").out == "full: everything applied\n"
