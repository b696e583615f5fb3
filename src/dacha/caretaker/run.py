"""The caretaker's root part: it opens sockets, stores leases, loads rules and starts guests, and reads no packets.

The packet worker (`packets/worker.py`) reads what guests send, and may be lost at any time: this part knows all its
orders, and gives them to the next one.
"""

from __future__ import annotations

import asyncio
import contextlib
import signal
import sys
from functools import partial
from pathlib import Path

from dacha.caretaker.boot import start_guests
from dacha.caretaker.root_part import Caretaker
from dacha.core.errors import BusyError
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.caretaker.process import RotatingLog, note_running, program
from dacha.engine.log.journal import note
from dacha.engine.network import kernel, rules
from dacha.engine.workspace import Workspace, load_applied
from dacha.host.files import locked

# A link that is being created again is back within moments; until then it is looked for at this interval.
AGAIN_S = 1.0
# New adapters are noticed within this time.
UPLINKS_S = 15.0


def _bring_up(ws: Workspace, log: RotatingLog) -> asyncio.Task[None]:
    """Start the guests that start with this host, in parallel to everything else."""

    async def bring_up() -> None:
        with attempt(log.say, "cannot start guests"):
            await asyncio.to_thread(start_guests, ws, log.say)
            # Recorded last: if the caretaker is killed before, the next one starts the remaining guests.
            ws.home.note_boot()

    log.say("this host was booted: its guests are started")
    return asyncio.ensure_future(bring_up())


async def _look_after_uplinks(log: RotatingLog) -> None:
    """Let new adapters accept router advertisements, although this host forwards for the lab."""
    while True:
        await asyncio.sleep(UPLINKS_S)
        with attempt(partial(log.say, bucket="uplinks"), "cannot examine new adapters"):
            await asyncio.to_thread(kernel.keep_routers_heard)


async def serve(lab_file: Path, log: RotatingLog) -> None:
    """Serve the lab until SIGTERM or SIGINT; SIGHUP makes it read the lab again."""
    loop = asyncio.get_running_loop()
    wake, ending = asyncio.Event(), asyncio.Event()
    loop.add_signal_handler(signal.SIGHUP, wake.set)

    def end() -> None:
        ending.set()
        wake.set()

    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, end)
    caretaker = Caretaker(log, wake.set)
    ws = load_applied(lab_file)
    note(ws.home, "caretaker", text="started")
    looking = asyncio.ensure_future(_look_after_uplinks(log))
    booting = _bring_up(ws, log) if ws.home.rebooted() else None
    if booting is None:
        with attempt(log.say, "cannot record that the lab was started after this host's boot"):
            ws.home.note_boot()
    noted = False
    try:
        while not ending.is_set():
            wake.clear()
            with attempt(log.say, "cannot serve the lab") as renewal:
                ws = load_applied(lab_file)
                await caretaker.renew(ws)
                await asyncio.to_thread(rules.note, ws)
            if not noted:
                # Recorded when everything possible is served: the command that started it waits for that.
                with attempt(log.say, "cannot record that the caretaker serves this lab") as noting:
                    note_running(ws.home)
                noted = not noting.failed
            fine = noted and not renewal.failed and not caretaker.failed
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(wake.wait(), None if fine else AGAIN_S)
    finally:
        looking.cancel()
        if booting:
            booting.cancel()
        caretaker.close()
        log.say("ends")
        note(ws.home, "caretaker", text="ended")


def run(lab_file: Path, *, echo: bool = False) -> None:
    """Serve the lab, unless another process does; with `echo` the log also goes to standard error. Raises BusyError."""
    program()  # before another version replaces this one
    home = load_applied(lab_file).home
    with locked(home.caretaker_lock, "dacha caretaker run", 0.0):
        asyncio.run(serve(lab_file, RotatingLog(home.caretaker_log, echo=echo)))


if __name__ == "__main__":
    with contextlib.suppress(BusyError):
        run(Path(sys.argv[1]))
