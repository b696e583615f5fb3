"""Give guests their USB devices when they are plugged in again, or released by this host."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable

from dacha.core.errors import BusyError
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.guest import usb
from dacha.engine.workspace import Workspace
from dacha.host.devices.usb import present

# How often it is looked what is plugged in; and, if that is the same, whether this host has released a device or a
# guest has started (seconds).
LOOK_S, AGAIN_S = 1.0, 10.0
# A device that cannot be given to a guest is reported no more often than this (seconds).
REPORT_S = 600.0


class Plugging:
    """Serves one lab from the first `renew` until `close`."""

    def __init__(self, log: Callable[[str], None]) -> None:
        self._log = log
        self._task: asyncio.Task[None] | None = None
        self._renewed = asyncio.Event()
        self._reported: dict[str, float] = {}

    def renew(self, ws: Workspace) -> None:
        """The lab as it is now."""
        self._ws = ws
        self._renewed.set()
        if self._task is None and usb.uses_usb(ws):
            self._task = asyncio.ensure_future(self._work())

    def close(self) -> None:
        if self._task:
            self._task.cancel()

    async def _work(self) -> None:
        seen, looked = None, 0.0
        while True:
            with attempt(self._log, "cannot look for USB devices"):
                now = await asyncio.to_thread(present)
                if now != seen or self._renewed.is_set() or time.monotonic() > looked + AGAIN_S:
                    self._renewed.clear()
                    seen, looked = now, time.monotonic()
                    await asyncio.to_thread(self._follow)
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._renewed.wait(), LOOK_S)

    def _follow(self) -> None:
        ws = self._ws.again()
        if not usb.changes(ws):
            return
        with contextlib.suppress(BusyError), ws.home.lock("caretaker", ws.path):
            for change, error in usb.follow(ws):
                text = f"{change.guest}: {change}"
                if error is None:
                    self._log(f"{change.guest}: {change.done()}")
                elif time.monotonic() > self._reported.get(text, -REPORT_S) + REPORT_S:
                    self._reported[text] = time.monotonic()
                    self._log(f"{text} failed: " + " / ".join(error.lines()))
