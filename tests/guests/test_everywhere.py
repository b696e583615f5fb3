"""dacha connect --all: one command in every guest that is on."""

import signal
import subprocess
import sys
import time

import pytest

from tests.conftest import Lab

GUEST = """
[guest.{name}]
@BOOT@
adapter = [{{ network = "pier" }}]
door.ssh = {{ from = "host" }}
"""
LAB = """\
[lab]
name = "everywhere"
[network.pier]
kind = "nat"
"""


@pytest.mark.whole
def test_a_command_runs_in_every_guest_and_each_answer_is_told(guest_lab: Lab) -> None:
    lab = guest_lab
    off = '[guest.tower]\nmemory = "64 MiB"\nadapter = [{ network = "pier" }]\n'
    lab.write(LAB + "".join(GUEST.format(name=n) for n in ("gauge", "charts")) + off)
    lab("apply", "--no-wait")
    lab("stop", "tower", "--force", "--wait", "0s")
    lab("apply")
    done = lab("connect", "--all", "--", "hostname; test $(hostname) = gauge", code=1)
    assert "gauge: exit code 0" in done.out and "charts: exit code 1" in done.out
    assert "\n  charts\n" in done.out and "1 of 2 guests: exit code 0; failed: charts" in done.out
    assert "off, not run there: tower" in done.out
    rows = {row["guest"]: row for row in lab("connect", "--all", "--json", "--", "id -un").json["guests"]}
    assert rows["gauge"]["out"] == rows["charts"]["out"] == "ops\n" and rows["gauge"]["exit_code"] == 0
    assert rows["tower"]["exit_code"] is None and rows["tower"]["why"] == "off"
    # A code that ssh uses for itself proves neither.
    assert "or ssh could not log in" in lab("connect", "--all", "--", "exit 255", code=1).out
    assert "no guest agent answers" in lab("connect", "--all", "--by", "agent", "--", "id", code=1).out
    for words in (["--all"], ["--all", "gauge", "--", "id"], [], ["--all", "--at-once", "0", "--", "id"],
                  ["--all", "--copy", "a", ":b"], ["--all", "--by", "console", "--", "id"]):  # fmt: skip
        assert lab("connect", *words, code=2).err.startswith("error: ")
    # Ctrl-C ends all clients at once.
    command = [sys.executable, "-m", "dacha", "connect", "--all", "--", "sleep 300"]
    with subprocess.Popen(command, cwd=lab.folder, env=lab.env, stderr=subprocess.PIPE, text=True) as run:
        end = time.monotonic() + 60
        while "sleep 300" not in lab("connect", "charts", "--", "ps").out:
            assert time.monotonic() < end
        run.send_signal(signal.SIGINT)
        assert "interrupted" in run.communicate(timeout=30)[1] and run.returncode == 130


def test_a_server_that_comes_and_goes_is_not_waited_for(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB + GUEST.format(name="gauge") + 'door.view = { service = "vnc", from = "host", always = false }\n')
    said = lab("apply").out
    assert "door gauge ssh" in said and "door gauge view" not in said
    assert "closes each connection: it may be booting; not always on" in lab("status").out
    (row,) = [d for d in lab("status", "--json").json["guests"][0]["doors"] if d["name"] == "view"]
    assert row["answers"] is False
    lab("door", "edit", "gauge", "view", "--always")
    lab("apply", "--no-wait")
    assert "not always" not in lab("status", code=1).out
