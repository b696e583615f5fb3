"""Notice that this host moved to another network, and close the doors that are not for that place."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from dacha.core.plan.places import place_of
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.log.journal import note
from dacha.engine.reach import places
from dacha.engine.workspace import Workspace
from dacha.host.network.here import here

# The kernel's tables are read at this interval; a door is closed within two seconds of a move.
LOOK_S = 0.4


class Placing:
    """Follows this host's place for one lab, until `close`."""

    def __init__(self, ws: Workspace, log: Callable[[str], None], moved: Callable[[], None]) -> None:
        """`moved` is called after the doors have followed: what else depends on the place is renewed then."""
        self._ws, self._log, self._moved = ws, log, moved
        self._task = asyncio.ensure_future(self._follow())

    def close(self) -> None:
        self._task.cancel()

    async def _follow(self) -> None:
        # The doors may be those of another place: this host may have moved while nobody looked.
        at: str | None = "?"
        while True:
            found = here()
            name = place_of(self._ws.written.places, found)
            if name != at:
                with attempt(self._log, "cannot close or open the doors for this place") as this:
                    done = await asyncio.to_thread(places.follow, self._ws.again())
                if not this.failed:
                    first, at = at == "?", name
                    if done or not first:
                        note(self._ws.home, "place", ours=False, place=name, text=str(found or "no default route"))
                        self._log(f"this host is at {name or 'an unknown place'} ({found or 'no default route'})")
                        for line in done:
                            self._log(line)
                    # This host may have moved after the lab was loaded, before the first look.
                    if not first or name != self._ws.place:
                        self._moved()
            await asyncio.sleep(LOOK_S)
