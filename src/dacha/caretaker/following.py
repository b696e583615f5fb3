"""Doors and names follow the guests: observed addresses become rules and DNS answers."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable

from dacha.caretaker.minding.alerts import Alerts
from dacha.caretaker.packets.messages import Tap
from dacha.caretaker.watching import Watch, Watched
from dacha.core.network.links import DirectLink, KernelPlan, TapLink
from dacha.core.plan.learned import Key, followed, learned
from dacha.core.plan.plan import Plan
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.log.journal import note
from dacha.engine.network import live, rules
from dacha.engine.workspace import Workspace
from dacha.hypervisor.monitor import agent

# The interval of queries to guest agents: for addresses that no traffic has shown.
AGENT_S = 15.0
# Retry interval after a failure; window in which address changes are batched (seconds).
AGAIN_S, TOGETHER_S = 2.0, 0.05
# So many changes of a guest's address are recorded within this time (seconds).
CHANGES_MOST, CHANGES_S = 10, 600.0
Log = Callable[[str], None]


class Following:
    """Watches the guests of one lab, and lets doors and names follow them until `close`."""

    def __init__(
        self, ws: Workspace, plan: Plan, links: KernelPlan, names: Callable[[Plan], None], log: Log, alerts: Alerts
    ) -> None:
        """Start following. `plan` is the plan in force; `names` is updated with the guests' current addresses."""
        self._ws, self._plan, self._names, self._log = ws, plan, names, log
        self._alerts = alerts
        self._changes: dict[str, list[float]] = {}
        self._moved = asyncio.Event()
        self.watch = Watch(
            _watched(plan, links), live.read(ws.home), ws.home.sightings, log, self._moved.set, self._note
        )
        self._moved.set()
        self._tasks = [asyncio.ensure_future(self._follow()), asyncio.ensure_future(self._ask_agents())]

    def _note(self, key: Key, before: str | None, now: str) -> None:
        """Record that a guest uses another address; of one that keeps changing it, only some of the changes: it can
        neither fill the log nor have a command run all the time."""
        guest, number = key
        at = time.monotonic()
        recent = [t for t in self._changes.get(guest, ()) if at - t < CHANGES_S]
        if len(recent) >= CHANGES_MOST:
            return
        self._changes[guest] = [*recent, at]
        network = self._plan.adapters[key].network if key in self._plan.adapters else f"adapter {number}"
        note(self._ws.home, "address", guest, ours=False, network=network, before=before, now=now)
        if before:
            text = f"{guest} uses {now} on {network} now, and not {before}"
            self._alerts.tell("address-moved", guest, text, network=network, before=before, now=now)

    def close(self) -> None:
        for task in self._tasks:
            task.cancel()
        self.watch.close()

    async def _follow(self) -> None:
        while True:
            await self._moved.wait()
            self._moved.clear()
            with attempt(self._log, "cannot update the doors yet") as this:
                self.watch.save()
                self._names(followed(self._plan, learned(self._plan, self.watch.seen)))
                if await asyncio.to_thread(self._load_rules):
                    self._log("addresses of guests have changed: the door rules were loaded again")
            if this.failed:
                self._moved.set()
                await asyncio.sleep(AGAIN_S)
            await asyncio.sleep(TOGETHER_S)

    def _load_rules(self) -> bool:
        return rules.follow(self._ws.at_this_place())

    async def _ask_agents(self) -> None:
        home = self._ws.home
        while True:
            await asyncio.sleep(AGENT_S)
            for name in self._ws.lab.guests:
                with attempt(self._log, f"cannot query the agent of {name}"), contextlib.suppress(OSError):
                    if home.is_running(name):
                        told = await asyncio.to_thread(agent.addresses, home.run(name))
                        self.watch.told(told or ())


def _watched(plan: Plan, links: KernelPlan) -> dict[str, Watched]:
    """Every link of the lab that belongs to a guest."""
    found = {}
    for link in links.links.values():
        if isinstance(link, TapLink | DirectLink):
            adapter = plan.adapters[link.guest, link.adapter]
            found[link.name] = Watched((link.guest, link.adapter), adapter.hardware_address, adapter.address)
    return found


def taps_of(ws: Workspace, plan: Plan, links: KernelPlan) -> dict[str, Tap]:
    """The same links for the packet worker, which listens on them."""
    found = {}
    for link in links.links.values():
        if isinstance(link, TapLink | DirectLink):
            adapter = plan.adapters[link.guest, link.adapter]
            served = ws.lab.networks[adapter.network].managed
            found[link.name] = Tap(adapter.hardware_address, isinstance(link, DirectLink), served)
    return found
