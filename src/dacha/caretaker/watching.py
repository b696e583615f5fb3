"""The address that each guest's adapter really uses, whatever its system: from observed traffic, leases of the lab's
own DHCP, and guest agents."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable, Iterable
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

from dacha.core.named import NamedTuple
from dacha.core.plan.learned import Key, Sighting
from dacha.core.zone import without_zone
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.network.live import write

# The minimum interval of records for an unchanged address, and for one that changes.
AGAIN_S, CHANGED_S = 10.0, 1.0
# The maximum delay of writing observations to disk (seconds).
SAVE_S = 0.3
# A guest may use several IPv6 addresses at once (RFC 8981); the last few are remembered.
OTHERS_MOST = 6


class Watched(NamedTuple):
    """A link of a guest: its adapter, and the planned address."""

    key: Key
    hardware: str
    planned: IPv4Address | None


class Watch:
    """Records what the guests on these links use, until `close`; `moved` is called when that changes."""

    def __init__(
        self,
        links: dict[str, Watched],
        before: dict[Key, Sighting],
        file: Path,
        log: Callable[[str], None],
        moved: Callable[[], None],
        changed: Callable[[Key, str | None, str], None] = lambda key, before, now: None,
    ) -> None:
        """`links` by their names, `before` the observations of an earlier run. `changed` is told the former and the new
        address of an adapter."""
        self._changed = changed
        self._links, self._file, self._log, self._moved = links, file, log, moved
        self._by_hardware = {w.hardware: w for w in links.values()}
        self._saving: asyncio.TimerHandle | None = None
        # Changes that came too soon after the last: the latest is recorded when the interval has passed.
        self._later: dict[Key, asyncio.TimerHandle] = {}
        known = {w.key for w in links.values()}
        self.seen: dict[Key, Sighting] = {key: s for key, s in before.items() if key in known}

    def close(self) -> None:
        for timer in self._later.values():
            timer.cancel()
        self.save()

    def used(self, link: str, address: IPv4Address | IPv6Address, by: str) -> None:
        """The guest on a link uses an address."""
        watched = self._links.get(link)
        if watched is None:
            return
        if isinstance(address, IPv6Address):
            self._note6(watched, address)
        else:
            self._note(watched, address, by)

    def leased(self, hardware: bytes, address: IPv4Address) -> None:
        """The lab's own DHCP has assigned an address: former users of it no longer count."""
        found = self._by_hardware.get(hardware.hex(":"))
        if found is None:
            return
        for key, sighting in list(self.seen.items()) if found.planned is None else ():
            if key != found.key and sighting.address == address:
                del self.seen[key]
        self._note(found, address, by="lease")

    def told(self, addresses: Iterable[tuple[str, str]]) -> None:
        """A guest's agent has reported its addresses, each with the hardware address of its adapter."""
        for hardware, text in addresses:
            found = self._by_hardware.get(hardware.lower())
            with contextlib.suppress(ValueError):
                if found and ":" in text:
                    self._note6(found, without_zone(IPv6Address(text.partition("/")[0])))
                elif found and found.key not in self.seen:
                    # Traffic is newer than an agent's report, which counts only for adapters without any.
                    self._note(found, IPv4Address(text.partition("/")[0]), by="agent")

    def _note(self, watched: Watched, used: IPv4Address, by: str) -> None:
        now = time.time()
        if watched.key in self._later:
            self._later.pop(watched.key).cancel()
        before = self.seen.get(watched.key)
        same = before is not None and before.address == used
        if before and by == "wire":
            if same and now - before.at < AGAIN_S:
                return
            # Addresses that keep changing are recorded once a second: each record is a disk write.
            left = before.at + CHANGED_S - now
            if not same and 0 < left <= CHANGED_S:
                later = asyncio.get_running_loop().call_later(left, self._note, watched, used, by)
                self._later[watched.key] = later
                return
        if before and same:
            kept = "lease" if "lease" in (by, before.by) else by
            self._keep(watched.key, before._replace(at=now, by=kept))
            return
        self._keep(watched.key, Sighting(used, now, now, by, before.others if before else ()))
        wrong = f", but {watched.planned} is planned" if watched.planned and watched.planned != used else ""
        self._log(f"{watched.key[0]} uses {used}{wrong}")
        self._changed(watched.key, str(before.address) if before and before.address else None, str(used))
        if watched.planned is None:
            self._moved()

    def _note6(self, watched: Watched, used: IPv6Address) -> None:
        before = self.seen.get(watched.key, Sighting(None, 0.0))
        if used.is_link_local or str(used) in before.others:
            return
        others = (*before.others, str(used))[-OTHERS_MOST:]
        self._keep(watched.key, before._replace(at=time.time(), others=others))
        self._log(f"{watched.key[0]} uses {used}")

    def _keep(self, key: Key, sighting: Sighting) -> None:
        self.seen[key] = sighting
        if self._saving is None:
            # Two hundred guests that boot together cause a few writes, not two hundred.
            self._saving = asyncio.get_running_loop().call_later(SAVE_S, self.save)

    def save(self) -> None:
        """Write new observations to the file that every command reads."""
        if self._saving is None:
            return
        self._saving.cancel()
        self._saving = None
        with attempt(self._log, "cannot record the addresses that were seen"):
            write(self._file, self.seen)
