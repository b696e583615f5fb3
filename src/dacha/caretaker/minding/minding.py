"""Mind the guests of a lab: notice that one ended, start it again if it should be, and watch doors and storages for
which the lab has commands."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable
from pathlib import Path

from dacha.caretaker.minding.alerts import Alerts
from dacha.core.errors import BusyError
from dacha.core.log.alert import BELOW
from dacha.core.log.ends import ORDERLY
from dacha.core.log.restarts import PAUSES_S, Again, again, recent, wanted
from dacha.core.units import show_duration
from dacha.engine.apply.apply import apply
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.disks.room import low_places
from dacha.engine.log.ends import last_end, note_ends, runs, unminded
from dacha.engine.log.journal import note
from dacha.engine.reach.ready import silent_doors
from dacha.engine.workspace import Workspace

# How often ends are looked for; doors are probed; storages are measured (seconds).
LOOK_S, DOORS_S, ROOM_S = 1.0, 15.0, 30.0


class Minding:
    """Minds one lab from the first `renew` until `close`."""

    def __init__(self, alerts: Alerts, log: Callable[[str], None]) -> None:
        self._alerts, self._log = alerts, log
        # Doors that do not respond: since when (monotonic), and whether that was reported.
        self._silent: dict[tuple[str, str], tuple[float, bool]] = {}
        self._low: set[Path] = set()
        self._restarts: dict[str, asyncio.Task[None]] = {}
        self._tasks: list[asyncio.Task[None]] = []

    def renew(self, ws: Workspace) -> None:
        """The lab as it is now."""
        self._ws = ws
        if not self._tasks:
            self._tasks = [asyncio.ensure_future(t) for t in (self._mind_ends(), self._mind_room(), self._mind_doors())]

    def close(self) -> None:
        for task in (*self._tasks, *self._restarts.values()):
            task.cancel()

    async def _mind_ends(self) -> None:
        while True:
            with attempt(self._log, "cannot look for guests that ended"):
                await asyncio.to_thread(note_ends, self._ws.home)
                # Another command may have noticed them first.
                for name in unminded(self._ws.home):
                    self._ended(name)
            await asyncio.sleep(LOOK_S)

    def _ended(self, name: str) -> None:
        """A guest ended: report a failure, and start it again if its policy says so."""
        home, guest = self._ws.home, self._ws.lab.guests.get(name)
        last = last_end(home, name)
        if last is None or guest is None:
            return
        end = last[0]
        if end.reason not in ORDERLY:
            self._alerts.tell("guest-failed", name, f"{name} ended: {end.words}", reason=end.reason)
        if home.read(name).stopped_on_purpose or not wanted(guest.restart, end.reason):
            return
        ends = runs(home, name)
        following = again(ends)
        if following is None:
            text = f"it ended {recent(ends)} times, and each run was short"
            note(home, "gave-up", name, text=text)
            self._alerts.tell("guest-failed", name, f"{name} is not started again: {text}", reason="gave-up")
            return
        if name not in self._restarts or self._restarts[name].done():
            self._restarts[name] = asyncio.ensure_future(self._start_again(name, following))

    async def _start_again(self, name: str, following: Again) -> None:
        await asyncio.sleep(following.after_s)
        note(self._ws.home, "restarted", name, attempt=f"{following.attempt} of {len(PAUSES_S)}")
        with attempt(self._log, f"cannot start {name} again"):
            while not await asyncio.to_thread(_start, self._ws.again(), name, self._log):
                await asyncio.sleep(LOOK_S)

    async def _mind_doors(self) -> None:
        while True:
            alert = self._ws.lab.alerts.get("door-closed")
            with attempt(self._log, "cannot probe the doors"):
                if alert:
                    self._doors(await asyncio.to_thread(silent_doors, self._ws.again()), alert.after_s)
            await asyncio.sleep(DOORS_S)

    def _doors(self, found: dict[tuple[str, str], str | None], after_s: float) -> None:
        """Compare the doors with the last look: `found` has those of running guests, with what was seen if they do not
        respond."""
        now = time.monotonic()
        for (guest, door), seen in found.items():
            since, told = self._silent.get((guest, door), (now, False))
            if seen is None:
                if told:
                    note(self._ws.home, "door", guest, door=door, answers=True, for_s=round(now - since))
                self._silent.pop((guest, door), None)
                continue
            if not told and now - since >= after_s:
                told = True
                note(self._ws.home, "door", guest, door=door, answers=False, for_s=round(now - since), seen=seen)
                text = f"door {guest} {door} has not responded for {show_duration(now - since)}: {seen}"
                self._alerts.tell("door-closed", guest, text, door=door, seen=seen, for_s=round(now - since))
            self._silent[guest, door] = (since, told)
        for key in self._silent.keys() - found.keys():
            del self._silent[key]  # its guest was stopped

    async def _mind_room(self) -> None:
        while True:
            alert = self._ws.lab.alerts.get("storage-low")
            with attempt(self._log, "cannot measure the storages"):
                low = await asyncio.to_thread(low_places, self._ws, alert.below if alert else BELOW)
                for place, words in low.items():
                    if place not in self._low:
                        note(self._ws.home, "storage", text=words, failed=True)
                        self._alerts.tell("storage-low", None, words, storage=str(place))
                self._low = set(low)
            await asyncio.sleep(ROOM_S)


def _start(ws: Workspace, name: str, log: Callable[[str], None]) -> bool:
    """Start a guest, unless a command stopped or started it meanwhile; False if another command holds the lab for so
    long that this one does not wait for it."""
    with contextlib.suppress(BusyError), ws.home.lock("caretaker", ws.path):
        if ws.home.read(name).stopped_on_purpose or ws.home.is_running(name):
            return True
        outcome = apply(ws, lambda subject, text, took: log(f"{subject}: {text}"), only={name})
        for change, error in outcome.failed:
            log(f"{name}: {change} failed: " + " / ".join(error.lines()))
        return True
    return False
