"""A program whose words are a guest's is held to its time and to its length."""

import time

from dacha.host.bounded import run_bounded


def test_it_says_and_ends() -> None:
    assert run_bounded(["sh", "-c", "cat; echo wrong >&2; exit 3"], 10, given="given\n") == (3, "given\nwrong\n")


def test_its_time_is_over() -> None:
    began = time.monotonic()
    assert run_bounded(["sh", "-c", "echo so far; sleep 60 & wait"], 0.5) == (None, "so far\n")
    assert time.monotonic() - began < 20


def test_it_goes_on_and_on() -> None:
    said = run_bounded(["yes"], 60, most=1000)
    assert said.code is None and len(said.text) == 1000
