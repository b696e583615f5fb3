"""Have the archives made that are due: by a process of its own, which may take long."""

from __future__ import annotations

import asyncio
import json
import sys
import time
from collections.abc import Callable
from typing import Any

from dacha.caretaker.minding.alerts import Alerts
from dacha.engine.archive.due import due_guests
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.workspace import Workspace

# How often it is looked whether an archive is due, and when after the caretaker's start for the first time: the guests
# that start with this host come first (seconds).
LOOK_S, FIRST_S = 30.0, 60.0
# A failed archive is tried again after this time, the next ones after twice as long, up to six hours (seconds).
AGAIN_S, AGAIN_MOST_S = 900.0, 6 * 3600.0


class Archiving:
    """Makes the archives of one lab from the first `renew` until `close`."""

    def __init__(self, alerts: Alerts, log: Callable[[str], None]) -> None:
        self._alerts, self._log = alerts, log
        # Guests whose last archive failed: how often in a row, and until when they are left alone (monotonic).
        self._resting: dict[str, tuple[int, float]] = {}
        self._task: asyncio.Task[None] | None = None

    def renew(self, ws: Workspace) -> None:
        """The lab as it is now."""
        self._ws = ws
        if self._task is None and any(g.archive for g in ws.lab.guests.values()):
            self._task = asyncio.ensure_future(self._work())

    def close(self) -> None:
        """End. An archive that is being made is completed all the same."""
        if self._task:
            self._task.cancel()

    async def _work(self) -> None:
        await asyncio.sleep(FIRST_S)
        while True:
            with attempt(self._log, "cannot make the archives that are due"):
                for name in await asyncio.to_thread(due_guests, self._ws.again(), time.time()):
                    if self._resting.get(name, (0, 0.0))[1] <= time.monotonic():
                        await self._make(name)
            await asyncio.sleep(LOOK_S)

    async def _make(self, name: str) -> None:
        failures = self._resting.get(name, (0, 0.0))[0]
        self._resting[name] = (failures + 1, time.monotonic() + min(AGAIN_S * 2.0**failures, AGAIN_MOST_S))
        words = ("guest", "archives", name, "--make", "--json", "--lab", str(self._ws.path))
        child = await asyncio.create_subprocess_exec(
            sys.executable, "-P", "-m", "dacha", *words, stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.PIPE, start_new_session=True,
        )  # fmt: skip
        out, err = await child.communicate()
        for text in _failures(out, err):
            self._log(f"{name}: no archive: {text}")
            self._alerts.tell("archive-failed", name, f"{name} could not be saved to its archive: {text}")
        if child.returncode == 0:
            self._resting.pop(name)


def _failures(out: bytes, err: bytes) -> list[str]:
    """Why archives failed, from the command's output."""
    try:
        rows: list[dict[str, Any]] = json.loads(out)["made"]
        return [str(row["error"]) for row in rows if row["error"]]
    except (ValueError, KeyError, TypeError):
        return (err.decode(errors="replace").strip().splitlines() or ["the command ended without an answer"])[-1:]
