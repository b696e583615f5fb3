"""A bridge over an adapter that carries this host's own address, with automatic rollback.

The change may cut off the administrator who made it. So a separate process waits, independent of the command and its
session, and reverts everything unless the administrator confirms in time that this host is still reachable.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import time

from dacha.core.errors import AnswerNo, BusyError, HostError, UsageError
from dacha.core.named import NamedTuple
from dacha.core.network.links import HostBridge
from dacha.core.units import duration, whole_number
from dacha.engine.home import Home
from dacha.host.files import locked
from dacha.host.network import bridge_move, iproute
from dacha.host.network.link import state as link_state
from dacha.host.network.link.state import LinkState
from dacha.host.records import DAMAGED, read_record, write_record

# Long enough to notice the loss of the connection, to log in again, and to type the command.
BACK_S, BACK_MOST_S = 60.0, 3600.0
BACK_VARIABLE = "DACHA_BACK_AFTER"
# How often the rollback is tried, at intervals of a second, and when another command takes over (seconds after its
# time).
TRIES, LATE_S = 300, 30.0


class Move(NamedTuple):
    """A bridge over an adapter; `until` (Unix seconds) is when it is removed, 0 once it was confirmed."""

    bridge: str
    adapter: str
    until: float


def _read(home: Home) -> tuple[Move, LinkState | None] | None:
    """The bridge, and the adapter's former configuration; None for that in a record of an older version, or a damaged
    one."""
    try:
        told = read_record(home.rollback_note, 1, "move")
        move = Move(*told["move"])
    except DAMAGED:
        return None
    try:
        return move, LinkState.from_record(told["before"])
    except DAMAGED:
        return move, None


def _write(home: Home, move: Move, before: LinkState | None) -> None:
    write_record(home.rollback_note, 1, {"move": move} | ({"before": before.record()} if before else {}))


def _lock(home: Home) -> contextlib.AbstractContextManager[None]:
    return locked(home.rollback_lock, "rollback of a bridge", 10.0)


def waiting(home: Home) -> Move | None:
    """The bridge that will be removed unless it is confirmed; None if there is none."""
    noted = _read(home)
    return noted[0] if noted and noted[0].until else None


def back_after() -> float:
    """How long a new bridge has until it must be confirmed (seconds). Raises UsageError if the variable is not a
    duration."""
    said = os.environ.get(BACK_VARIABLE)
    if not said:
        return BACK_S
    number = whole_number(said)
    try:
        seconds = duration(said) if number is None else float(number)
    except ValueError:
        seconds = 0.0
    if not 1.0 <= seconds <= BACK_MOST_S:
        raise UsageError(
            f"{BACK_VARIABLE} is not a duration: {said}", remedy='set it to a value from 1 s to 1 h, such as "90 s"'
        )
    return seconds


def make(home: Home, link: HostBridge) -> None:
    """Create the bridge. The adapter's configuration is recorded and the rollback armed first; a bridge that was
    confirmed before needs no confirmation again. Raises HostError."""
    noted = _read(home)
    known = noted is not None and noted[0] == (link.name, link.adapter, 0.0)
    after_s = back_after()
    with _lock(home):
        if link.name in iproute.links():  # it is down, or the adapter is not its port
            bridge_move.unmake_bridge(link.name, link.adapter, noted[1] if noted else None, as_noted=False)
        move, before = Move(link.name, link.adapter, time.time() + after_s), link_state.read(link.adapter)
        if noted and noted[1] and noted[0][:2] == move[:2] and not before.addresses():
            before = noted[1]  # another program removed the bridge, and with it this host's configuration there
        _write(home, move, before)
        # It gets this host's lock as soon as this process exits, however that happens.
        subprocess.Popen(
            [sys.executable, "-P", "-m", "dacha.engine.network.rollback", home.lab, str(after_s), repr(move.until)],
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        try:
            bridge_move.make_bridge(link.name, link.alias, before)
        except HostError:
            with contextlib.suppress(HostError):  # the first error is reported; the rollback tries this one again
                _undo(home, move, before)
            raise
        if known:
            _write(home, move._replace(until=0.0), before)


def _undo(home: Home, move: Move, before: LinkState | None) -> None:
    bridge_move.unmake_bridge(move.bridge, move.adapter, before, as_noted=True)
    home.rollback_note.unlink(missing_ok=True)


def confirm(home: Home) -> Move:
    """Keep the bridge. Raises AnswerNo if none waits for that."""
    with _lock(home):
        noted = _read(home)
        if noted is None or not noted[0].until:
            raise AnswerNo("nothing waits to be confirmed", remedy="dacha diff shows what is not applied")
        move, before = noted
        _write(home, move._replace(until=0.0), before)
        return move


def unmake(home: Home, bridge: str, adapter: str) -> None:
    """Remove the bridge, because the lab no longer has it. Raises HostError."""
    with _lock(home):
        noted = _read(home)
        before = noted[1] if noted and noted[0][:2] == (bridge, adapter) else None
        bridge_move.unmake_bridge(bridge, adapter, before, as_noted=False)
        home.rollback_note.unlink(missing_ok=True)


def overdue(home: Home) -> None:
    """Carry out a rollback whose process was killed: its time is long over. Raises HostError."""
    move = waiting(home)
    if move and time.time() > move.until + LATE_S:
        _go_back(home)


def wait_and_undo(home: Home, after_s: float, until: float) -> None:
    """The rollback of the bridge whose record has `until`: after `after_s` seconds it is removed, unless it was
    confirmed or no longer exists. (A bridge created since has a process of its own.)"""

    def over() -> bool:
        move = waiting(home)
        return move is None or move.until != until

    deadline = time.monotonic() + after_s
    while time.monotonic() < deadline:
        if over():
            return
        time.sleep(min(0.2, max(0.0, deadline - time.monotonic())))
    # No other process will try again, and this host may be unreachable.
    for _ in range(TRIES):
        try:
            if not over():
                _go_back(home)
            return
        except (HostError, BusyError):
            time.sleep(1.0)


def _go_back(home: Home) -> None:
    with _lock(home):
        noted = _read(home)
        if noted is not None and noted[0].until:
            _undo(home, *noted)


if __name__ == "__main__":
    with contextlib.suppress(HostError):
        wait_and_undo(Home(sys.argv[1]), *map(float, sys.argv[2:]))
