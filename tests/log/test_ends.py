"""Ways to end a guest, each tried: the log names the reason, once."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from dacha.hypervisor.monitor.qmp import Qmp
from tests.attacks.field import on_console
from tests.conftest import Lab
from tests.networks.world import until

LAB = """\
[lab]
name = "ends"
[guest.gauge]
@BOOT@
stop-after = "1 s"
"""


def run_folder(lab: Lab) -> Path:
    return Path(lab.env["DACHA_RUN"]) / "ends/gauge"


def killed(number: int) -> Callable[[Lab], None]:
    return lambda lab: os.kill(lab.pid("gauge"), number)


def quits(lab: Lab) -> None:
    with Qmp(run_folder(lab) / "watch") as qmp:
        qmp.execute("quit")


def inside(lab: Lab) -> None:
    on_console(run_folder(lab), "echo up")  # it has booted
    with contextlib.suppress(OSError, AssertionError):
        on_console(run_folder(lab), "poweroff -f", 10)


def button(lab: Lab) -> None:
    on_console(run_folder(lab), "echo up")
    lab("stop", "gauge", "--wait", "60 s")


def late(lab: Lab) -> None:
    """A guest that follows its button after the command has given up."""
    on_console(run_folder(lab), "pkill acpid || killall acpid")
    lab("stop", "gauge", "--wait", "0 s", code=1)
    with contextlib.suppress(OSError, AssertionError):
        on_console(run_folder(lab), "poweroff -f", 10)


def restarted(lab: Lab) -> None:
    on_console(run_folder(lab), "echo up")
    lab("restart", "gauge", "--no-wait")


def leaves(lab: Lab) -> None:
    """It is taken out of the lab file, and comes back afterwards."""
    text = lab.file.read_text()
    on_console(run_folder(lab), "echo up")
    lab.file.write_text('[lab]\nname = "ends"\n')
    lab("apply")
    lab.file.write_text(text)
    lab("guest", "edit", "gauge", "--cpus", "1")


def cut_off(lab: Lab) -> None:
    """This host loses power: after its next boot the process is gone, and its record is of another boot."""
    os.kill(lab.pid("gauge"), signal.SIGKILL)
    note = lab.guest_folder("gauge") / "guest.json"
    record = json.loads(note.read_text())
    record["process"][2] = "another-boot"
    note.write_text(json.dumps(record))


def starved(lab: Lab) -> None:
    """The kernel kills it: its memory has a limit that it exceeds."""
    group = Path("/sys/fs/cgroup/memory") / f"dacha-test-{os.getpid()}"
    v1 = group.parent.is_dir()
    group = group if v1 else Path("/sys/fs/cgroup") / group.name
    group.mkdir()
    pid = lab.pid("gauge")
    try:
        (group / ("memory.limit_in_bytes" if v1 else "memory.max")).write_text(str(24 << 20))
        (group / "cgroup.procs").write_text(str(pid))
        until(lambda: not alive(pid))
    finally:
        subprocess.run(["rmdir", group], check=False)


def alive(pid: int) -> bool:
    try:
        return "Z" not in Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return False


# How it is ended, and the reason that the log must give; with a word that it must say.
WAYS: dict[str, tuple[Callable[[Lab], object], str, str]] = {
    "its power button, by stop": (button, "asked", "power button"),
    "its power button, too late for stop": (late, "asked", "power button"),
    "stop --force": (lambda lab: lab("stop", "gauge", "--force", "--wait", "0s"), "powered-off", "by Dacha"),
    "restart": (restarted, "asked", "power button"),
    "it leaves the lab file": (leaves, "asked", "power button"),
    "powered off inside": (inside, "inside", "inside the guest"),
    "SIGTERM": (killed(signal.SIGTERM), "signal", "SIGTERM from process"),
    "SIGINT": (killed(signal.SIGINT), "signal", "SIGINT from process"),
    "SIGHUP": (killed(signal.SIGHUP), "signal", "SIGHUP from process"),
    "SIGKILL": (killed(signal.SIGKILL), "unknown", "was killed, or it crashed"),
    "SIGSEGV": (killed(signal.SIGSEGV), "unknown", "was killed, or it crashed"),
    "quit over its monitor": (quits, "quit", "other than Dacha"),
    "this host loses power": (cut_off, "host", "lost power"),
    "killed for memory": (starved, "memory", "memory limit"),
}


def ends(lab: Lab) -> list[dict[str, object]]:
    lines = lab("log", "gauge", "--kind", "ended", "--json").out.splitlines()
    return [json.loads(line) for line in lines]


@pytest.mark.whole
def test_every_end_of_a_guest_is_in_the_log_with_its_reason(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    for number, (way, (end, reason, word)) in enumerate(WAYS.items(), 1):
        lab("start", "gauge", "--no-wait")
        began = time.time()
        end(lab)
        found = until(lambda number=number: e if len(e := ends(lab)) >= number else None)
        last = found[-1]
        assert len(found) == number, (way, found)
        assert last["data"]["reason"] == reason and word in str(last["text"]), (way, last)
        written = time.mktime(time.strptime(str(last["time"]), "%Y-%m-%dT%H:%M:%SZ")) - time.timezone
        assert began - 2 <= written <= time.time() + 2, (way, last)
        if way == "restart":
            lab("stop", "gauge", "--force", "--wait", "0s")
            number_of_restart = len(ends(lab))
            assert number_of_restart == number + 1
            # One more end than ways from here on: forget it.
            path = lab.guest_folder("gauge").parents[1] / "log"
            path.write_text("".join(path.read_text().splitlines(keepends=True)[:-1]))
    lab("start", "gauge", "--no-wait")
    os.kill(lab.pid("gauge"), signal.SIGTERM)
    until(lambda: not alive(lab.pid("gauge")))
    shown = lab("status", code=None)
    assert "gauge ended" in shown.out and "SIGTERM" in shown.out and "dacha log gauge" in shown.out
    row = lab("status", "--json", code=None).json["guests"][0]
    assert row["ended"]["reason"] == "signal"
    # The same in words, by time, with who typed what.
    said = lab("log").out
    assert "gauge         started  [dacha start gauge --no-wait, by " in said
    assert said.index("was killed, or it crashed") < said.index("killed QEMU: it reached its memory limit")


def test_an_end_that_several_commands_notice_is_recorded_once(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("start", "gauge", "--no-wait")
    os.kill(lab.pid("gauge"), signal.SIGKILL)
    with ThreadPoolExecutor(4) as pool:
        list(pool.map(lambda _: lab("status", code=None), range(8)))
    assert len(ends(lab)) == 1
