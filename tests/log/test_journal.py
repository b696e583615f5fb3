"""The file of the log: a kill at any byte, a full disk, damage, size, several writers."""

from __future__ import annotations

import contextlib
import json
import multiprocessing
import os
import random
import resource
import select
import signal
import socket
import subprocess
import time
from pathlib import Path

import pytest

from dacha.core.log.event import KINDS, Event, Invoker, from_line, to_line
from dacha.engine.log import journal
from dacha.host.log.system_journal import entry, send
from tests.conftest import PROGRAM, Lab

LAB = '[lab]\nname = "saltmarsh"\n[guest.gauge]\ndisk = [{ size = "1 GiB" }]\n'


def line(number: int) -> str:
    return to_line(Event(float(number), "changed", "gauge", Invoker("dacha apply"), {"text": "x" * (number % 300)}))


def test_an_event_is_the_same_after_it_was_written_and_read() -> None:
    event = Event(1796068090.531, "ended", "gauge", Invoker("dacha stop", "ops"), {"reason": "asked", "failed": False})
    assert from_line(to_line(event)) == event
    hostile = Event(1.0, "failed", "gauge", None, {"text": "\x1b[2J\nnext" + "y" * 9000})
    written = to_line(hostile)
    assert "\n" not in written and "\x1b" not in written and len(written) < 3000
    for odd in ("", "{", "[]", "1", '{"time": "x", "kind": 1}', '{"kind": "started"}', '{"time": 1e999, "kind": "a"}'):
        assert from_line(odd) is None or odd.startswith('{"time": 1e999'), odd


def test_every_kind_of_event_has_words_whatever_it_lacks() -> None:
    for kind in KINDS:
        assert Event(0.0, kind).text()
    assert "later: something" in Event(0.0, "later", data={"text": "something"}).text()


def test_a_writer_that_is_killed_at_any_byte_costs_one_line(tmp_path: Path) -> None:
    path = tmp_path / "log"
    for cut in range(1, len(line(7)) + 1):
        path.unlink(missing_ok=True)
        journal.append(path, line(1))
        with path.open("a") as f:
            f.write(line(7)[:cut])
        journal.append(path, line(2))
        times = [e.time for text in path.read_text().split("\n") if (e := from_line(text))]
        assert times in ([1.0, 2.0], [1.0, 7.0, 2.0]), cut


def _write(path: Path, first: int, count: int) -> None:
    for number in range(first, first + count):
        journal.append(path, line(number))


def test_several_writers_lose_nothing_when_one_is_killed(tmp_path: Path) -> None:
    path, drawn = tmp_path / "log", random.Random(5)
    for round_ in range(10):
        writers = [multiprocessing.Process(target=_write, args=(path, 10_000 * n, 200)) for n in (1, 2, 3)]
        for writer in writers:
            writer.start()
        time.sleep(drawn.random() * 0.02)
        assert writers[0].pid
        with contextlib.suppress(ProcessLookupError):  # it was faster
            os.kill(writers[0].pid, signal.SIGKILL)
        for writer in writers:
            writer.join()
        found = [e.time for text in path.read_text().split("\n") if (e := from_line(text))]
        for n in (2, 3):
            assert {10_000.0 * n + k for k in range(200)} <= set(found), round_
        path.unlink()


def test_the_log_is_bounded_and_what_is_left_is_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(journal, "MOST", 20_000)
    path = tmp_path / "log"
    for number in range(1000):
        journal.append(path, line(number))
    assert path.stat().st_size < 21_000 and (tmp_path / "log.1").stat().st_size < 21_000
    assert sorted(p.name for p in tmp_path.iterdir()) == ["log", "log.1"]


def test_a_full_disk_leaves_no_half_line_and_stops_no_command(lab: Lab) -> None:
    lab.write(LAB)
    lab("apply", code=None)
    path = lab.folder / "state/labs/saltmarsh/log"
    before = path.read_bytes()

    def limited() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (len(before) + 20, len(before) + 20))
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)

    # (Python would write truncated bytecode.)
    lab("guest", "edit", "gauge", "--cpus", "2", preexec_fn=limited, env={"PYTHONDONTWRITEBYTECODE": "1"})
    assert path.read_bytes() == before
    lab("guest", "edit", "gauge", "--cpus", "3")
    assert len(path.read_bytes()) > len(before)


def test_damage_is_left_out_and_times_are_put_in_order(lab: Lab) -> None:
    lab.write(LAB)
    lab("guest", "add", "heron", "--disk", "1GiB", code=None)
    folder = lab.folder / "state/labs/saltmarsh"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "log").write_bytes(
        b"\xff\xfe\x00\n" + (to_line(Event(2e9, "started", "gauge")) + "\n").encode() + b'{"time": 17\n'
        + (to_line(Event(1e9, "started", "heron")) + "\n").encode() + b"[" * 5000
    )  # fmt: skip
    said = lab("log").out
    assert said.index("heron") < said.index("gauge") and "2001-09-09" in said
    # From a year ahead, as the clock was wrong then; and what a later version may write.
    with (folder / "log").open("a") as f:
        f.write("\n" + to_line(Event(1e9 + 5, "tide-turned", "heron", None, {"text": "at six"})) + "\n")
    assert "tide-turned: at six" in lab("log", "heron").out


def test_what_is_asked_of_the_log_is_answered_or_refused(lab: Lab) -> None:
    lab.write(LAB)
    assert "No events" in lab("log").out
    lab("apply", code=None)
    assert "there is no guest tern" in lab("log", "tern", code=2).err
    assert "there is no kind of event started-up" in lab("log", "--kind", "started-up", code=2).err
    assert "is not a time" in lab("log", "--since", "yesterday", code=2).err
    for since in ("1 h", "2 d", "1 week", "00:00", "2026-01-01", "2026-01-01 10:00", "2026-01-01T10:00:00+02:00"):
        assert lab("log", "--since", since).out
    assert lab("log", "--since", "2099-01-01").out == "No events.\n"
    kinds = {json.loads(text)["kind"] for text in lab("log", "--json").out.splitlines()}
    assert "applied" in kinds and kinds <= set(KINDS)


def test_new_events_are_shown_as_they_come(lab: Lab) -> None:
    lab.write(LAB)
    lab("apply", code=None)
    child = subprocess.Popen(
        [PROGRAM, "log", "--follow", "--kind", "edited"], cwd=lab.folder, env=lab.env, stdout=subprocess.PIPE, text=True
    )
    try:
        assert child.stdout
        found = ""
        for cpus in range(4, 60):
            lab("guest", "edit", "gauge", "--cpus", str(cpus))
            if select.select([child.stdout], [], [], 0.5)[0]:
                found += os.read(child.stdout.fileno(), 4096).decode()
            if "guest.gauge.cpus" in found:
                break
        assert "the lab file was edited: guest.gauge.cpus" in found
        child.send_signal(signal.SIGINT)
        assert child.wait(30) in (0, 130, -2)
    finally:
        child.kill()
        child.wait()


def test_a_watched_status_is_a_line_for_each_change(lab: Lab) -> None:
    lab.write(LAB.replace('disk = [{ size = "1 GiB" }]', 'disk = [{ size = "1 MiB" }]\nvideo = false'))
    child = subprocess.Popen(
        [PROGRAM, "status", "--watch", "--json"], cwd=lab.folder, env=lab.env, stdout=subprocess.PIPE, text=True
    )
    try:
        assert child.stdout
        first = json.loads(child.stdout.readline())
        assert [g["state"] for g in first["guests"]] == ["off"] and first["version"] == 1
        lab("apply", "--no-wait")
        states = set()
        while "on" not in states:
            states = {g["state"] for g in json.loads(child.stdout.readline())["guests"]}
        child.send_signal(signal.SIGINT)
        assert child.wait(30) in (0, 130, -2)
    finally:
        child.kill()
        child.wait()


def test_an_entry_for_the_systems_journal_has_its_form(tmp_path: Path) -> None:
    assert entry({"MESSAGE": "high water", "DACHA_LAB": "a"}) == b"MESSAGE=high water\nDACHA_LAB=a\n"
    assert entry({"TEXT": "one\ntwo"}) == b"TEXT\n\x07\0\0\0\0\0\0\0one\ntwo\n"
    send({"MESSAGE": "nobody listens"}, tmp_path / "none")
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as s:
        s.bind(str(tmp_path / "journal"))
        send({"MESSAGE": "low water"}, tmp_path / "journal")
        assert s.recv(100) == b"MESSAGE=low water\n"
