"""QEMU's image tool: it ends with its command, its writers are waited for, and a busy host does not disturb it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import pytest

from dacha.core.errors import HostError
from dacha.host import confine
from dacha.hypervisor.images import snapshots
from dacha.hypervisor.images.image_tool import encrypted_by, ran
from tests.networks.world import until

# A command that starts QEMU's tool, says its number, and waits.
_COMMAND = """
from dacha.host import confine
from dacha.host.accounts import helper
child = confine.spawn(["sleep", "100"], {account}, with_parent=True)
print(child.pid, flush=True)
child.wait()
"""


@pytest.mark.parametrize("account", ["None", "helper()"])
def test_the_image_tool_ends_with_a_command_that_is_killed(account: str) -> None:
    command = subprocess.Popen(
        [sys.executable, "-c", _COMMAND.format(account=account)], stdout=subprocess.PIPE, text=True
    )
    assert command.stdout
    child = int(command.stdout.readline())
    # It must be what was asked for, after every step to it.
    until(lambda: Path(f"/proc/{child}/comm").read_text() == "sleep\n")
    os.kill(command.pid, signal.SIGKILL)
    command.wait()
    # Whoever inherits it may not have asked for its end yet.
    until(lambda: not Path(f"/proc/{child}").exists() or ") Z" in Path(f"/proc/{child}/stat").read_text())


def test_an_image_that_is_written_is_waited_for(tmp_path: Path) -> None:
    disk = tmp_path / "disk-0.qcow2"
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", disk, "4M"], check=True)
    snapshots.wait_unwritten(disk, 0)
    writer = subprocess.Popen(["qemu-io", disk], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert writer.stdin and writer.stdout
    try:
        writer.stdin.write("read 0 512\n")
        writer.stdin.flush()
        assert "read 512" in writer.stdout.readline()
        with pytest.raises(HostError, match=r"qemu-io.*has .* open for writing"):
            snapshots.wait_unwritten(disk, 0.2)
        threading.Timer(0.5, writer.kill).start()
        snapshots.take(disk, "after")
    finally:
        writer.kill()
        writer.wait()
    # Who only reads is not waited for.
    reader = subprocess.Popen(["qemu-io", "-r", disk], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    try:
        assert reader.stdin and reader.stdout
        reader.stdin.write("read 0 512\n")
        reader.stdin.flush()
        assert "read 512" in reader.stdout.readline()
        snapshots.wait_unwritten(disk, 0)
    finally:
        reader.kill()
        reader.wait()
    assert list(snapshots.in_image(disk)) == ["after"]


def test_an_encrypted_disk_is_made_on_a_busy_host_too(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Under load QEMU's tool sometimes cannot measure how fast a key is derived there; nothing is written then."""
    failures = ["qemu-img: d: Unable to get accurate CPU usage"] * 2

    def busy(*arguments: Any, **options: Any) -> tuple[int, str, str]:
        return (1, "", failures.pop()) if failures else tool_run(*arguments, **options)

    tool_run = confine.run
    monkeypatch.setattr(confine, "run", busy)
    command = ["create", "-q", "-f", "qcow2", *encrypted_by(b"tides"), str(tmp_path / "d"), "1M"]
    assert ran({"new": b"tides"}, command, write=[tmp_path])[0] == 0 and not failures
    failures += ["qemu-img: d: No space left on device"]
    assert ran({"new": b"tides"}, command, write=[tmp_path])[0] == 1 and not failures
