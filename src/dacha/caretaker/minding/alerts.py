"""Run the user's commands at events: one at a time, bounded in time, number and output."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
import time
from typing import Any

from dacha.core.harmless import harmless
from dacha.core.log.alert import Alert
from dacha.core.named import NamedTuple
from dacha.engine.log.journal import note
from dacha.engine.workspace import Workspace

# A command that takes longer is killed; further events wait, so many at most; so much of its output is recorded.
COMMAND_S, WAITING_MOST, OUTPUT_MOST = 60.0, 50, 1000
# How long a killed command may take to be gone.
END_S = 5.0


class Occasion(NamedTuple):
    """An event for a command: in words, and its values."""

    alert: Alert
    guest: str | None
    text: str
    data: dict[str, Any]


class Alerts:
    """The commands of one lab, until `close`."""

    def __init__(self) -> None:
        self._ws: Workspace | None = None
        self._waiting: asyncio.Queue[Occasion] = asyncio.Queue(WAITING_MOST)
        self._lost = 0
        self._task: asyncio.Task[None] | None = None

    def renew(self, ws: Workspace) -> None:
        """The lab as it is now. What waits is run all the same."""
        self._ws = ws
        if ws.lab.alerts and self._task is None:
            self._task = asyncio.ensure_future(self._work())

    def close(self) -> None:
        if self._task:
            self._task.cancel()

    def tell(self, event: str, guest: str | None, text: str, **data: Any) -> None:
        """Run the command for an event, if the lab has one."""
        alert = self._ws.lab.alerts.get(event) if self._ws else None
        if alert is None:
            return
        try:
            # What a guest has sent may be a part of it.
            plain = {key: harmless(v) if isinstance(v, str) else v for key, v in data.items()}
            self._waiting.put_nowait(Occasion(alert, guest, harmless(text), plain))
        except asyncio.QueueFull:
            self._lost += 1

    async def _work(self) -> None:
        while True:
            occasion = await self._waiting.get()
            assert self._ws
            failure = await _run(self._ws, occasion)
            if failure:
                note(self._ws.home, "command", occasion.guest, event=occasion.alert.event, text=failure, failed=True)
            if self._lost and self._waiting.empty():
                lost, self._lost = self._lost, 0
                text = f"was not run for {lost} further events: too many at once"
                note(self._ws.home, "command", event=occasion.alert.event, text=text, failed=True)


async def _run(ws: Workspace, occasion: Occasion) -> str:
    """Run a command; returns why it failed, "" if it did not."""
    words = {
        "event": occasion.alert.event, "lab": str(ws.path), "lab_name": ws.lab.name, "guest": occasion.guest or "",
        "text": occasion.text,
    } | occasion.data  # fmt: skip
    told = {f"DACHA_{key.upper()}": str(value) for key, value in words.items() if value is not None}
    try:
        child = await asyncio.create_subprocess_exec(
            *occasion.alert.run, stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.STDOUT, start_new_session=True, cwd=ws.path.parent, env={**os.environ, **told},
        )  # fmt: skip
    except (OSError, ValueError) as e:
        return f"could not be started: {occasion.alert.run[0]}: {getattr(e, 'strerror', None) or e}"
    said = b""
    try:
        async with asyncio.timeout(COMMAND_S):
            stdin, stdout = child.stdin, child.stdout
            assert stdin and stdout
            with contextlib.suppress(OSError):
                stdin.write(json.dumps({"time": time.time(), **words}, default=str).encode() + b"\n")
                stdin.close()
            while chunk := await stdout.read(1 << 16):
                said = (said + chunk)[-OUTPUT_MOST:]
            code = await child.wait()
    except TimeoutError:
        return f"was killed: it took longer than {COMMAND_S:.0f} s"
    finally:
        await _end(child)
    last = said.decode(errors="replace").strip().splitlines()[-1:]
    return f"failed with exit code {code}" + (f": {last[0]}" if last else "") if code else ""


async def _end(child: asyncio.subprocess.Process) -> None:
    """Kill what is left of a command: all processes of its session's group."""
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(child.pid, signal.SIGKILL)
    # One that has left the group may keep the output open.
    with contextlib.suppress(TimeoutError):
        await asyncio.wait_for(child.wait(), END_S)
