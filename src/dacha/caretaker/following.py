"""Doors and names go where the guests are: what is seen of their addresses is turned into rules and answers."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Iterable

from dacha.caretaker.dns import DnsService
from dacha.caretaker.services import zone_of
from dacha.caretaker.watching import Watch, Watched
from dacha.core.errors import DachaError
from dacha.core.kernel_plan import DirectLink, KernelPlan, TapLink
from dacha.core.learned import followed, learned
from dacha.engine import rules, sightings
from dacha.engine.workspace import Workspace
from dacha.hypervisor import agent
from dacha.hypervisor.process import running

# Guests with an agent are asked this often: it is for addresses that nothing on the wire has shown.
AGENT_S = 15.0
# After a failure the rules are tried again this often, and a burst of moves is taken together.
AGAIN_S, TOGETHER_S = 2.0, 0.05
Log = Callable[[str], None]


class Following:
    """Watches the guests of one lab, and lets doors and names follow them until `close`."""

    def __init__(self, ws: Workspace, links: KernelPlan, names: Iterable[DnsService], log: Log) -> None:
        """Begin to watch. Raises OSError."""
        self._ws, self._names, self._log = ws, list(names), log
        self._moved = asyncio.Event()
        self.watch = Watch(
            _watched(ws, links), sightings.read(ws.home), sightings.sightings_file(ws.home), log, self._moved.set
        )
        self._moved.set()
        self._tasks = [asyncio.ensure_future(self._follow()), asyncio.ensure_future(self._ask_agents())]

    def close(self) -> None:
        for task in self._tasks:
            task.cancel()
        self.watch.close()

    async def _follow(self) -> None:
        while True:
            await self._moved.wait()
            self._moved.clear()
            ws = self._ws
            self.watch.save()
            now = followed(ws.plan, learned(ws.plan, self.watch.seen))
            zone = zone_of(ws.lab, now)
            for service in self._names:
                service.serve(zone)
            try:
                if await asyncio.to_thread(rules.follow, ws):
                    self._log("doors follow their guests: the rules were loaded again")
            except DachaError as e:
                self._log("doors cannot follow yet: " + " / ".join(e.lines()))
                self._moved.set()
                await asyncio.sleep(AGAIN_S)
            await asyncio.sleep(TOGETHER_S)

    async def _ask_agents(self) -> None:
        home = self._ws.home
        while True:
            await asyncio.sleep(AGENT_S)
            for name in self._ws.lab.guests:
                with contextlib.suppress(OSError):
                    if running(home.process_lock(name)):
                        told = await asyncio.to_thread(agent.addresses, home.run(name))
                        self.watch.told(told or ())


def _watched(ws: Workspace, links: KernelPlan) -> dict[str, Watched]:
    """Every link of the lab that leads to a guest."""
    found = {}
    for link in links.links.values():
        if isinstance(link, TapLink | DirectLink):
            adapter = ws.plan.adapters[link.guest, link.adapter]
            direct = isinstance(link, DirectLink)
            key = (link.guest, link.adapter)
            served = ws.lab.networks[adapter.network].served
            found[link.name] = Watched(key, adapter.hardware_address, adapter.address, direct, served)
    return found
