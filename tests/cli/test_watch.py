"""The live view: drawn on a screen of its own, and the terminal is left as it was, whatever ends it."""

from __future__ import annotations

import os
import pty
import re
import select
import signal
import subprocess
import termios
import time
from types import SimpleNamespace
from typing import Any, NamedTuple

import pytest

from dacha.cli.reach.status import Seen, _with_since
from tests.conftest import PROGRAM, Lab

TEXT = '[lab]\nname = "real"\n[guest.gauge]\nmemory = "64 MiB"\ndisk = [{ size = "1 MiB" }]\n'


@pytest.mark.parametrize("ending", ["q", "ctrl-c", "term", "hang-up"])
def test_a_view_leaves_the_terminal_as_it_was(lab: Lab, ending: str) -> None:
    lab.write(TEXT)
    outer, inner = pty.openpty()
    termios.tcsetwinsize(inner, (30, 100))
    before = termios.tcgetattr(inner)
    child = subprocess.Popen(
        [PROGRAM, "status", "--watch"], cwd=lab.folder, env=lab.env | {"TERM": "xterm"},
        stdin=inner, stdout=inner, stderr=inner, start_new_session=True,
        preexec_fn=lambda: __import__("fcntl").ioctl(0, termios.TIOCSCTTY, 0),
    )  # fmt: skip
    said = b""
    deadline = time.monotonic() + 120
    while said.count(b"gauge") < 2:
        assert time.monotonic() < deadline and child.poll() is None, said
        if select.select([outer], [], [], 0.2)[0]:
            said += os.read(outer, 65536)
    if ending in ("q", "ctrl-c"):
        os.write(outer, b"q" if ending == "q" else b"\x03")
    else:
        child.send_signal(signal.SIGTERM if ending == "term" else signal.SIGHUP)
    assert child.wait(60) == 0
    while select.select([outer], [], [], 0.2)[0]:
        said += os.read(outer, 65536)
    assert said.startswith(b"\x1b[?1049h") and said.rstrip().endswith(b"\x1b[?1049l") and b"\x1b[?25h" in said
    assert termios.tcgetattr(inner) == before
    os.close(outer)
    os.close(inner)


def test_without_a_terminal_it_is_refused(lab: Lab) -> None:
    lab.write(TEXT)
    assert "--watch needs a terminal" in lab("status", "--watch", code=2).err


def test_a_door_that_changed_while_it_was_watched_says_since_when() -> None:
    class Row(NamedTuple):
        plan: Any
        ok: bool | None
        now: str

    class Guest(NamedTuple):
        name: str
        doors: list[Any]

    class Status(NamedTuple):
        guests: list[Any]

    plan = SimpleNamespace(door=SimpleNamespace(name="ssh"))
    seen: Seen = {}

    def shown(ok: bool, now: str) -> str:
        return str(_with_since(Status([Guest("gauge", [Row(plan, ok, now)])]), seen).guests[0].doors[0].now)

    assert shown(False, "no answer yet") == "no answer yet"
    changed = shown(True, "open")
    assert re.fullmatch(r"open, since \d\d:\d\d:\d\d", changed) and shown(True, "open") == changed
