"""A bridge made over an adapter that carries this host's own address, with an automatic way back.

Whoever asked for it may be cut off by it. So a process of its own waits, whatever becomes of the command and of its
session, and puts everything back as it was unless somebody says in time that this host can still be reached.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import time

from dacha.core.errors import AnswerNo, HostError, UsageError
from dacha.core.named import NamedTuple
from dacha.core.network.links import HostBridge
from dacha.core.units import duration, whole_number
from dacha.engine.home import Home
from dacha.host.files import locked
from dacha.host.network import bridge_move, iproute
from dacha.host.records import DAMAGED, read_record, write_record

# Long enough to see that one is still connected, to log in anew where not, and to type the command.
BACK_S, BACK_MOST_S = 60.0, 3600.0
BACK_VARIABLE = "DACHA_BACK_AFTER"


class Move(NamedTuple):
    """A bridge over an adapter; `until` (Unix seconds) is when it is unmade, 0 once it was confirmed."""

    bridge: str
    adapter: str
    until: float


def _read(home: Home) -> Move | None:
    try:
        return Move(*read_record(home.rollback_note, 1, "move")["move"])
    except DAMAGED:
        return None


def _lock(home: Home) -> contextlib.AbstractContextManager[None]:
    return locked(home.rollback_lock, "a bridge's way back", 10.0)


def waiting(home: Home) -> Move | None:
    """The bridge that will be unmade unless it is confirmed; None when there is none."""
    move = _read(home)
    return move if move and move.until else None


def back_after() -> float:
    """How long a new bridge has until it is confirmed (seconds). Raises UsageError for a variable that says no time."""
    said = os.environ.get(BACK_VARIABLE)
    if not said:
        return BACK_S
    number = whole_number(said)
    try:
        seconds = duration(said) if number is None else float(number)
    except ValueError:
        seconds = 0.0
    if not 1.0 <= seconds <= BACK_MOST_S:
        raise UsageError(f"{BACK_VARIABLE} is no time: {said}", remedy='from 1 s to 1 h: "90 s"')
    return seconds


def make(home: Home, link: HostBridge) -> None:
    """Make the bridge. Its way back is armed first; a bridge that was confirmed before needs none. Raises HostError."""
    before = _read(home)
    if before == (link.name, link.adapter, 0.0):
        bridge_move.make_bridge(link.name, link.alias, link.adapter)
        return
    after_s = back_after()
    write_record(home.rollback_note, 1, {"move": Move(link.name, link.adapter, time.time() + after_s)})
    subprocess.Popen(
        [sys.executable, "-P", "-m", "dacha.engine.network.rollback", home.lab, str(after_s)],
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip
    bridge_move.make_bridge(link.name, link.alias, link.adapter)


def confirm(home: Home) -> Move:
    """Keep the bridge. Raises AnswerNo when none waits for that."""
    with _lock(home):
        move = waiting(home)
        if move is None:
            raise AnswerNo("nothing waits to be confirmed", remedy="dacha diff shows what is and is not applied")
        write_record(home.rollback_note, 1, {"move": move._replace(until=0.0)})
        return move


def unmake(home: Home, bridge: str, adapter: str) -> None:
    """Take the bridge away, because the lab has it no more. Raises HostError."""
    with _lock(home):
        bridge_move.unmake_bridge(bridge, adapter)
        home.rollback_note.unlink(missing_ok=True)


def wait_and_undo(home: Home, after_s: float) -> None:
    """The way back: after `after_s` seconds the bridge is unmade, unless it was confirmed or is gone by then."""
    deadline = time.monotonic() + after_s
    while time.monotonic() < deadline:
        if waiting(home) is None:
            return
        time.sleep(min(0.2, max(0.0, deadline - time.monotonic())))
    with _lock(home):
        move = waiting(home)
        if move is None:
            return
        if move.bridge in iproute.links():
            bridge_move.unmake_bridge(move.bridge, move.adapter)
        home.rollback_note.unlink(missing_ok=True)


if __name__ == "__main__":
    with contextlib.suppress(HostError):
        wait_and_undo(Home(sys.argv[1]), float(sys.argv[2]))
