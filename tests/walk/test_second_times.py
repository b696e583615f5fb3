"""Every command after every other, and once more: nothing of others is touched, no disk meets another, what is refused
changes nothing, and what was applied stays so. Each command in `make test`, all pairs in `make whole`."""

from __future__ import annotations

import random
import shlex
import socket
import tomllib
import zlib

import pytest

from tests.walk.actions import ACTIONS, Action
from tests.walk.world import World, quoted

PAIRS = [(a, b) for a in ACTIONS for b in ACTIONS]
THIRTIETH = [p for p in PAIRS if zlib.crc32(f"{p[0].words}|{p[1].words}".encode()) % 30 == 0]


def walk(world: World, pairs: list[tuple[Action, Action]], settle: int = 1) -> None:
    """Each pair: one, the other (twice where all is `settle`d), and the one once more; what then stands is applied, in
    every `settle`th."""
    wrong = []
    for n, (a, b) in enumerate(pairs):
        world.restore()
        model = world.base.copy()
        try:
            for action in (a, b, b, a) if settle == 1 else (a, b, a):
                world.run(action, model)
            if n % settle == 0:
                world.settled(model)
        except AssertionError as e:
            wrong.append(f"{a.words}, then {b.words}: {e}")
        finally:
            world.stop()
    assert not wrong, "\n\n".join(wrong)


def test_each_command_is_done_undone_and_done_again(world: World) -> None:
    for action in ACTIONS:
        if not action.undo:
            continue
        world.restore()
        model = world.base.copy()
        try:
            if world.run(action, model).code:
                continue  # with what is there login refused: the pairs have the others
            meant = tomllib.loads(world.lab.file.read_text())
            world.undo(action, model)
            assert world.run(action, model).code == 0, "a second time login refused"
            assert tomllib.loads(world.lab.file.read_text()) == meant
            world.settled(model)
        except AssertionError as e:
            raise AssertionError(f"{action.words!r}: {e}") from e
        finally:
            world.stop()


@pytest.mark.whole
def test_a_thirtieth_of_all_pairs_of_commands(world: World) -> None:
    walk(world, THIRTIETH, settle=5)


@pytest.mark.whole
@pytest.mark.parametrize("part", range(16))
def test_all_pairs_of_commands(world: World, part: int) -> None:
    walk(world, PAIRS[part::16])


LIVE = [
    a
    for a in ACTIONS
    if a.words.startswith(("door ", "person ", "guest edit ", "handout gauge", "start ", "network add"))
]


def entered(port: int) -> bool:
    """Whether the port is open here: QEMU accepts for a guest in user mode, whatever its system does."""
    with socket.socket() as s:
        s.settimeout(5)
        return s.connect_ex(("127.0.0.1", port)) == 0


@pytest.mark.whole
def test_the_doors_of_guests_that_run_are_those_of_the_file(world: World) -> None:
    """Thirty commands and their opposites after one another, each applied, while real guests run."""
    lab, dice = world.lab, random.Random(31)
    for guest in ("gauge", "shed", "web"):
        lab("start", guest, "--no-wait")
    pids = {guest: lab.pid(guest) for guest in ("gauge", "shed", "web")}
    seen: set[int] = set()
    for _ in range(30):
        action = dice.choice(LIVE)
        for words in (action.words, *([action.undo] if action.undo and dice.random() < 0.5 else [])):
            lab(*shlex.split(quoted(words)), code=None)
            lab("apply", "--no-wait", code=None)
            wanted = {d["port"] for g in lab("status", "--json", code=None).json["guests"] for d in g["doors"]
                      if d["port"] and "next start" not in d["seen"]}  # fmt: skip
            assert all(map(entered, wanted)), (words, wanted)
            assert not any(map(entered, seen - wanted)), (words, seen - wanted)
            seen |= wanted
    assert {guest: lab.pid(guest) for guest in pids} == pids, "none of them was started anew"
