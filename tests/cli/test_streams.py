"""Losing output neither stops nor falsifies work: closed pipes, full devices, closed streams, other encodings."""

from __future__ import annotations

import json
import os
import subprocess
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Lab

TEXT = """\
[lab]
name = "lost"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
memory = "64 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
[guest.charts]
memory = "64 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.21" }]
"""


def run(lab: Lab, command: str, **env: str) -> subprocess.CompletedProcess[str]:
    """A command line of a shell, in which `dacha` is the program."""
    line = f'dacha() {{ "{PROGRAM}" "$@"; }}; {command}'
    return subprocess.run(
        ["bash", "-c", line],
        cwd=lab.folder,
        env=lab.env | env,
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )


@pytest.mark.parametrize(
    ("where", "word"),
    [("| true", ""), ("> /dev/full", "no space left"), (">&-", "it is closed"), (">&- 2>&-", "")],
)
def test_everything_is_done_whoever_reads_of_it(lab: Lab, where: str, word: str) -> None:
    lab.write(TEXT)
    done = run(lab, f"dacha apply --no-wait {where}; echo code=${{PIPESTATUS[0]}}")
    assert "code=0" in done.stdout, done
    assert len(done.stderr.splitlines()) == bool(word) and word in done.stderr
    assert "internal error" not in done.stderr and "Traceback" not in done.stderr
    assert lab("diff").out == "lost: everything applied\n"
    assert [g["state"] for g in lab("status", "--json").json["guests"]] == ["on", "on"]


def test_an_answer_for_a_script_that_is_lost_is_not_called_given(lab: Lab) -> None:
    lab.write(TEXT)
    done = run(lab, "dacha status --json > /dev/full; echo code=$?")
    assert "code=3" in done.stdout and "the output could not be written" in done.stderr
    assert "code=0" in run(lab, "dacha status --json | true; echo code=${PIPESTATUS[0]}").stdout
    # What was wrong stays what is told.
    assert "code=2" in run(lab, "dacha nonsense > /dev/full 2>&1; echo code=$?").stdout


@pytest.mark.parametrize("encoding", ["ascii", "latin-1"])
def test_what_an_encoding_has_no_sign_for_is_spelled(lab: Lab, encoding: str) -> None:
    lab.write(TEXT + 'door.ssh = { from = "host", port = 2299 }\n')
    done = run(lab, "dacha door edit charts ssh --port 2298; dacha map; dacha reach", PYTHONIOENCODING=encoding)
    assert done.returncode == 0 and "this host -> 127.0.0.1, port 2298 -> charts" in done.stdout, done
    assert "2298" in lab.file.read_text() and "---" in done.stdout
    answer = run(lab, "dacha check --json", PYTHONIOENCODING=encoding).stdout
    assert answer.isascii() and isinstance(json.loads(answer), dict)


def test_what_follows_two_dashes_is_not_ours(lab: Lab) -> None:
    lab.write(TEXT)
    done = lab("connect", "gauge", "--", "x", "--json", "--debug", code=2)
    assert "has no ssh door" in done.err and done.out == ""


def test_a_home_that_is_none_is_said(lab: Lab, tmp_path: Path) -> None:
    lab.write(TEXT)
    bare = {k: v for k, v in lab.env.items() if k not in ("HOME", "DACHA_STATE", "DACHA_SHARED")}
    for home in ({}, {"HOME": "somewhere"}):
        done = subprocess.run(
            ["setpriv", "--reuid=77777", "--clear-groups", PROGRAM, "status"] if os.geteuid() == 0 else ["true"],
            cwd="/", env=bare | home | {"DACHA_LAB": "/nowhere/lab.toml"}, capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert "internal error" not in done.stderr and "Traceback" not in done.stderr, done


WAITING = """\
import atexit, sys, threading, dacha.cli.main as cli
def main():
    if {waits}: threading.Thread(target=threading.Event().wait, daemon=True).start()
    return 130
cli.main = main
atexit.register(print, "taken down")
cli.program()
"""


@pytest.mark.parametrize(("waits", "said"), [(False, "taken down\n"), (True, "")])
def test_the_interpreter_is_not_taken_down_beside_a_question_that_was_given_up(waits: bool, said: str) -> None:
    command = [Path(PROGRAM).with_name("python"), "-c", WAITING.format(waits=waits)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
    assert (done.returncode, done.stdout) == (130, said), done
