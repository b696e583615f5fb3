"""Guests that are started again, guests that wait for others, and the commands that are run at events."""

from __future__ import annotations

import asyncio
import json
import os
import re
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from dacha.caretaker import following
from dacha.caretaker.minding import alerts, minding
from dacha.core.log.ends import EndEvidence, end_of
from dacha.core.log.restarts import PAUSES_S, again, wanted
from dacha.engine.log import journal
from dacha.engine.workspace import load
from dacha.host import cgroup
from tests.conftest import Lab
from tests.log.test_ends import alive
from tests.networks.world import until

LAB = """\
[lab]
name = "minded"
[network.pier]
kind = "nat"
[on.guest-failed]
run = ["./tell.sh", "failed"]
[guest.gauge]
@BOOT@
adapter = [{ network = "pier" }]
restart = "on-failure"
door.ssh = { from = "host" }
start = { order = 1, ready-within = "2 min" }
[guest.heron]
@BOOT@
adapter = [{ network = "pier" }]
restart = "always"
start = { order = 2 }
"""
TELL = """\
#!/bin/sh
printf '%s|%s|%s|%s|' "$1" "$DACHA_EVENT" "$DACHA_GUEST" "$DACHA_LAB" >> told
cat >> told
"""


def events(lab: Lab, *kinds: str) -> list[dict[str, Any]]:
    lines = lab("log", "--json", *(w for k in kinds for w in ("--kind", k))).out.splitlines()
    return [json.loads(line) for line in lines]


def ended(lab: Lab, guest: str, how: int) -> None:
    pid = lab.pid(guest)
    os.kill(pid, how)
    until(lambda: not alive(pid))


def running(lab: Lab, guest: str) -> bool:
    rows = lab("status", "--json", code=None).json["guests"]
    return bool(next(g for g in rows if g["name"] == guest)["state"] == "on")


def test_guests_wait_for_others_and_are_started_again_as_they_should_be(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    (lab.folder / "tell.sh").write_text(TELL)
    (lab.folder / "tell.sh").chmod(0o755)
    done = lab("apply").out
    # heron started when the door of gauge responded.
    assert re.search(r"guest gauge +its doors respond .*guest heron [^\n]*started", done, re.S)
    assert "restarts guests" in lab("caretaker", "status").out
    before = lab.pid("gauge")
    ended(lab, "gauge", signal.SIGKILL)
    until(lambda: running(lab, "gauge") and lab.pid("gauge") != before)
    told = until(lambda: (lab.folder / "told").read_text() if (lab.folder / "told").exists() else "")
    assert told.startswith(f"failed|guest-failed|gauge|{lab.file}|") and '"reason": "unknown"' in told
    assert [e["data"]["attempt"] for e in events(lab, "restarted")] == [f"1 of {len(PAUSES_S)}"]
    # What a command stops stays off, whatever the policy.
    lab("stop", "heron", "--force", "--wait", "0s")
    lab("stop", "gauge", "--force", "--wait", "0s")
    time.sleep(3.0)
    assert not running(lab, "heron") and not running(lab, "gauge")
    assert [e["guest"] for e in events(lab, "restarted")] == ["gauge"]
    # Without the caretaker nothing is started again, and status says what is lacking.
    lab("start", "heron", "--no-wait")
    lab("caretaker", "stop")
    ended(lab, "heron", signal.SIGTERM)
    said = lab("status", code=None).out
    assert ("heron ended" in said and "SIGTERM" in said and "1 change" in said) or "2 changes" in said
    assert "guests that end are not restarted" in lab("caretaker", "status", code=1).out


def test_a_guest_that_never_responds_holds_the_others_up_until_its_deadline(guest_lab: Lab) -> None:
    lab = guest_lab
    text = LAB.replace('"2 min"', '"4 s"').replace("door.ssh = {", 'door.web = { service = "http", to = 8099,')
    lab.write(text.replace('restart = "', '#"').replace("[on.guest-failed]\n", "").replace('run = ["./tell.sh"', "#"))
    boot = "from pathlib import Path; import sys; from dacha.caretaker.boot import start_guests; " \
        "from dacha.engine.workspace import load; start_guests(load(sys.argv[1]), print)"  # fmt: skip
    lab("guest", "edit", "gauge", "--at-boot")
    lab("guest", "edit", "heron", "--at-boot")
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    first = len(events(lab))
    began = time.time()
    done = subprocess.run(
        [sys.executable, "-c", boot, str(lab.file)], env=lab.env, cwd=lab.folder, capture_output=True, text=True,
        timeout=200, check=False,
    )  # fmt: skip
    assert "gauge did not respond in time" in done.stdout and not done.returncode, done
    found = [e for e in events(lab)[first:] if e["kind"] in ("started", "not-ready")]
    assert [(e["kind"], e["guest"]) for e in found] == [
        ("started", "gauge"),
        ("not-ready", "gauge"),
        ("started", "heron"),
    ]
    assert time.time() - began > 4.0 and running(lab, "heron")


def test_a_guest_that_cannot_start_at_boot_is_tried_again(guest_lab: Lab) -> None:
    """Another program has its port when this host has just booted, and frees it a moment later."""
    lab = guest_lab
    lab.write(LAB.replace('restart = "', '#"').replace("[on.guest-failed]\n", "").replace('run = ["./tell.sh"', "#"))
    lab("guest", "edit", "gauge", "--at-boot")
    lab("apply", "--no-wait")
    listed = lab("guest", "list", "--json").json["guests"]
    port = next(d["port"] for g in listed if g["name"] == "gauge" for d in g["doors"])
    lab("stop", "--all", "--force", "--wait", "0s")
    boot = """\
import sys
from dacha.caretaker import boot
from dacha.engine.workspace import load
boot.AGAIN_S = (0.5,) * 20
boot.start_guests(load(sys.argv[1]), lambda said: print(said, flush=True))
"""
    with socket.create_server(("127.0.0.1", port)) as held, subprocess.Popen(
        [sys.executable, "-c", boot, str(lab.file)], env=lab.env, cwd=lab.folder, stdout=subprocess.PIPE, text=True
    ) as starting:  # fmt: skip
        assert starting.stdout
        said = []
        for line in starting.stdout:
            said.append(line)
            if "again: gauge" in line:
                held.close()
    assert starting.returncode == 0 and any("again: gauge" in line for line in said), said
    assert running(lab, "gauge")


def test_pauses_grow_and_end_and_a_guest_that_ran_long_begins_anew() -> None:
    short = [(float(n), n + 1.0) for n in range(0, 100, 10)]
    pauses = [again(short[: n + 1]) for n in range(7)]
    assert [p.after_s if p else None for p in pauses] == [*PAUSES_S, None, None]
    recovered = [*short, (1000.0, 5000.0)]
    assert again(recovered) == (1, 1.0)
    assert again([*recovered, (5001.0, 5002.0)]) == (2, 2.0)
    assert again([]) is None
    for reason, failure, always in (
        ("asked", False, False), ("powered-off", False, False), ("inside", False, True), ("host-stop", False, False),
        ("signal", True, True), ("memory", True, True), ("crash", True, True), ("unknown", True, True),
        ("host", False, False), ("quit", True, True), ("installed", False, False),
    ):  # fmt: skip
        assert wanted("on-failure", reason) == failure and wanted("always", reason) == always, reason  # type: ignore[arg-type]
        assert not wanted("never", reason)  # type: ignore[arg-type]


def test_a_group_of_the_kernel_tells_who_was_killed_for_memory(tmp_path: Path) -> None:
    events = tmp_path / "dacha/tides/tern/memory.events"
    events.parent.mkdir(parents=True)
    for text, killed in (
        ("low 0\nhigh 0\nmax 812\noom 1\noom_kill 1\noom_group_kill 1\n", True),
        ("low 0\nhigh 0\nmax 812\noom 0\noom_kill 0\n", False), ("", False), ("odd\n", False),
    ):  # fmt: skip
        events.write_text(text)
        assert cgroup.killed_for_memory("tides", "tern", tmp_path) == killed
    assert not cgroup.killed_for_memory("tides", "nobody", tmp_path)


def test_reasons_that_no_test_can_cause_here() -> None:
    """QEMU's own words, as it prints them."""
    stamp = "2026-11-30T19:48:11.480401Z qemu-system-x86_64: "
    shut = "77@1796068091.481495:runstate_set current_run_state 9 (running) new_state 11 (shutdown)\n"
    for log, more, reason, word in (
        (f"{stamp}terminating on signal 15 from pid 1 (/sbin/init)\n{shut}", {}, "host-stop", "shut down"),
        ("qemu-system-x86_64: ../hw/pci/msi.c:12: msi_get: Assertion `v' failed.\n", {}, "crash", "Assertion"),
        (f"77@1.5:qemu_system_shutdown_request reason=8\n{shut}", {}, "crash", "guest-panic"),
        (shut, {"once": True}, "installed", "one run"),
        ("", {"fault": "the kernel reports: segfault"}, "crash", "segfault"),
        ("", {"rebooted": True}, "host", "lost power"),
        (f"{stamp}warning: something\n", {}, "unknown", "crashed"),
        (f"77@1.5:qemu_system_shutdown_request reason=6\n{shut}", {"panic": "not syncing"}, "inside", "panicked"),
        ("\x00garbage@@\n", {}, "crash", "garbage"),
    ):  # fmt: skip
        end = end_of(EndEvidence(log, **more))  # type: ignore[arg-type]
        assert end.reason == reason and word in end.words, (log, end)
    assert end_of(EndEvidence(shut)).at == 1796068091.481495


@pytest.fixture
def quiet(lab: Lab, monkeypatch: pytest.MonkeyPatch) -> Any:
    """A lab with commands that misbehave, as a workspace of this process."""
    for name, value in lab.env.items():
        if name.startswith("DACHA"):
            monkeypatch.setenv(name, value)
    lab.write(
        '[lab]\nname = "odd"\n[on.guest-failed]\nrun = "sh -c \'echo on >> runs; sleep 100 & sleep 100\'"\n'
        '[on.door-closed]\nrun = "sh -c \'yes tide\'"\nafter = "0 s"\n[on.address-moved]\nrun = "./none --at all"\n'
        '[on.storage-low]\nrun = "sh -c \'cat > got; exit 3\'"\nbelow = 99\n[on.rules-changed]\nrun = "true"\n'
    )
    lab("apply")
    lab("caretaker", "stop")
    return load(str(lab.file))


def test_commands_that_hang_flood_fail_or_do_not_exist_are_bounded_and_in_the_log(
    lab: Lab, quiet: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(alerts, "COMMAND_S", 1.0)
    monkeypatch.setattr(alerts, "WAITING_MOST", 3)

    async def run() -> None:
        made = alerts.Alerts()
        made.renew(quiet)
        for event in ("guest-failed", "door-closed", "address-moved", "storage-low"):
            made.tell(event, "gauge", f"about {event}", door="ssh")
            await asyncio.sleep(0)
        for _ in range(20):
            made.tell("rules-changed", None, "again")
        # Others go on meanwhile.
        for _ in range(200):
            await asyncio.sleep(0.05)
            if len(events_of(quiet)) >= 5:
                break
        made.close()

    asyncio.run(run())
    found = [f"{e.data['event']} {e.data['text']}" for e in events_of(quiet)]
    for event, words in (
        ("guest-failed", "took longer than 1 s"), ("door-closed", "took longer than 1 s"),
        ("address-moved", "could not be started: ./none"), ("storage-low", "failed with exit code 3"),
        ("", "was not run for 20 further events"),
    ):  # fmt: skip
        assert any(f.startswith(event) and words in f for f in found), (event, found)
    assert json.loads((lab.folder / "got").read_text())["text"] == "about storage-low"
    left = subprocess.run(["pgrep", "-f", "sleep 100"], capture_output=True, text=True, check=False).stdout.split()
    assert not [p for p in left if Path(f"/proc/{p}/cwd").resolve() == lab.folder]


def events_of(ws: Any) -> list[Any]:
    return [e for e in journal.read(ws.home) if e.kind == "command"]


def test_a_closed_door_is_reported_once_and_so_is_its_opening(quiet: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    told: list[str] = []

    class Told:
        def tell(self, event: str, guest: str | None, text: str, **data: Any) -> None:
            told.append(text)

    mind = minding.Minding(Told(), print)  # type: ignore[arg-type]
    mind._ws = quiet
    now = [1000.0]
    monkeypatch.setattr(minding.time, "monotonic", lambda: now[0])
    key = ("gauge", "ssh")
    for passed, seen in ((0, None), (10, "no answer"), (50, "no answer"), (70, "no answer"), (90, None), (95, None)):
        now[0] = 1000.0 + passed
        mind._doors({key: seen}, 55.0)
    assert told == ["door gauge ssh has not responded for 60 s: no answer"]
    doors = [e for e in journal.read(quiet.home) if e.kind == "door"]
    assert [(e.data["answers"], e.data["for_s"]) for e in doors] == [(False, 60), (True, 80)]
    # A door that is closed for less is not reported; one whose guest was stopped is forgotten.
    mind._doors({key: "no answer"}, 55.0)
    mind._doors({}, 55.0)
    assert len(told) == 1 and not mind._silent


def test_a_guest_that_keeps_changing_its_address_fills_neither_log_nor_mailbox(quiet: Any) -> None:
    told: list[str] = []

    class Told:
        def tell(self, event: str, guest: str | None, text: str, **data: Any) -> None:
            told.append(text)

    it = following.Following.__new__(following.Following)
    it._ws, it._changes, it._alerts = quiet, {}, Told()  # type: ignore[assignment]
    it._plan = quiet.plan
    for n in range(100):
        it._note(("gauge", 0), f"10.77.4.{n}", f"10.77.4.{n + 1}")
    it._note(("heron", 0), None, "10.77.4.9")
    found = [e.guest for e in journal.read(quiet.home) if e.kind == "address"]
    assert found.count("gauge") == len(told) == following.CHANGES_MOST and found.count("heron") == 1


def test_events_that_are_none_and_commands_that_are_none_are_errors_of_the_file(lab: Lab) -> None:
    for text, words in (
        ('[on.door-shut]\nrun = "true"\n', "there is no event door-shut"),
        ("[on.door-closed]\n", "run is missing"),
        ('[on.door-closed]\nrun = "say \'it"\n', "close its quotes"),
        ("[on.door-closed]\nrun = []\n", "is not a command"),
        ('[on.guest-failed]\nrun = "true"\nafter = "1 s"\n', "belongs to [on.door-closed] only"),
        ('[on.storage-low]\nrun = "true"\nbelow = 100\n', "out of range"),
        ('[guest.gauge]\nrestart = "sometimes"\n', "unknown value 'sometimes'"),
        ('[guest.gauge]\nstart = { ready-within = "soon" }\n', "is not a duration"),
    ):
        lab.write(f'[lab]\nname = "odd"\n{text}')
        assert words in lab("check", code=2).out, text
    lab.write('[lab]\nname = "odd"\n[on.guest-failed]\nrun = "/bin/mail admin"\n')
    assert "/bin/mail admin" in lab("check", "--untrusted", str(lab.file)).out
