"""The caretaker's process: it serves the lab until it is told to end, and reads the lab again when it is told to."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import sys
import time
from collections.abc import Callable
from pathlib import Path

from dacha.caretaker.dhcp import DhcpService
from dacha.caretaker.dns import DnsService
from dacha.caretaker.following import Following
from dacha.caretaker.ip6 import Ip6Service
from dacha.caretaker.journal import Journal
from dacha.caretaker.outside import Outside
from dacha.caretaker.services import Served, served, zone_of
from dacha.core.errors import BusyError, DachaError
from dacha.engine import at_boot, outside, rules
from dacha.engine.caretaking import leases_file, lock_file, note_running
from dacha.engine.wanted import wanted_links
from dacha.engine.workspace import Workspace, load_applied
from dacha.host.files import locked
from dacha.wire.dhcp4_server import Lease
from dacha.wire.dns_cache import Cache

# A link that is being made again is back within moments; until then it is looked for this often.
AGAIN_S = 1.0


def log(text: str) -> None:
    """One line for whoever wonders why: it goes to standard error, which the one who started this has chosen."""
    sys.stderr.write(f"{time.strftime('%Y-%m-%d %H:%M:%S')} {text}\n")
    sys.stderr.flush()


class Caretaker:
    """Everything that is served for one lab; `renew` brings it to what the lab file says now."""

    def __init__(self) -> None:
        self._dhcp: list[DhcpService] = []
        self._ip6: list[Ip6Service] = []
        self._dns: list[DnsService] = []
        self._cache = Cache()
        self._following: Following | None = None
        self._outside: Outside | None = None
        self.failed = False

    async def renew(self, ws: Workspace) -> None:
        """Serve what the lab wants. What cannot be served now is said, and tried again by the caller."""
        self.close()
        self.failed = False
        links = wanted_links(ws, ws.plan)
        zone = zone_of(ws.lab, ws.plan)
        for network in served(ws.lab, ws.plan, links):
            await self._serve(ws, network, DnsService(zone, self._cache, network.admitted, forward=network.way_out))
        try:
            self._following = Following(ws, links, self._dns, log) if links.links else None
        except OSError as e:
            log(f"cannot watch which addresses guests use: {e.strerror or e}")
        if outside.needed(ws):
            self._outside = Outside(ws, log)

    def _leased(self, lease: Lease) -> None:
        if self._following:
            self._following.watch.leased(lease.hardware, lease.address)

    def _says(self, network: Served) -> Callable[[str], None]:
        return lambda text: log(f"{network.bridge.network}: {text}")

    async def _serve(self, ws: Workspace, network: Served, names: DnsService) -> None:
        name, link = network.bridge.network, network.bridge.name
        self._dns.append(names)
        try:
            if network.scope:
                journal = Journal(leases_file(ws.home, name))
                self._dhcp.append(DhcpService(link, network.scope, journal, self._says(network), self._leased))
            if network.scope6 and network.advertisement:
                self._ip6.append(Ip6Service(link, network.advertisement, network.scope6, self._says(network)))
            for address in network.resolvers:
                await names.listen(link, address)
        except OSError as e:
            self.failed = True
            log(f"{name}: cannot serve yet on {link}: {e.strerror or e}")
            return
        log(f"{name}: serves DHCP and DNS on {link}, {', '.join(network.resolvers)}")

    def close(self) -> None:
        if self._following:
            self._following.close()
            self._following = None
        if self._outside:
            self._outside.close()
            self._outside = None
        for dhcp in self._dhcp:
            dhcp.close()
        for ip6 in self._ip6:
            ip6.close()
        for names in self._dns:
            names.close()
        self._dhcp, self._ip6, self._dns = [], [], []


def _bring_up(ws: Workspace) -> asyncio.Task[None]:
    """Start the guests that start with this host, beside everything else."""

    async def bring_up() -> None:
        try:
            await asyncio.to_thread(at_boot.start_guests, ws, log)
            # Noted last: a caretaker that is ended before this is followed by one that starts the rest.
            at_boot.note(ws.home)
        except DachaError as e:
            log("guests cannot be started: " + " / ".join(e.lines()))

    log("this host has started: so do its guests")
    return asyncio.ensure_future(bring_up())


async def serve(lab_file: Path) -> None:
    """Serve the lab until SIGTERM or SIGINT; SIGHUP reads it again."""
    loop = asyncio.get_running_loop()
    wake, ending = asyncio.Event(), asyncio.Event()
    loop.add_signal_handler(signal.SIGHUP, wake.set)

    def end() -> None:
        ending.set()
        wake.set()

    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, end)
    caretaker = Caretaker()
    ws = load_applied(lab_file)
    note_running(ws.home)
    booting = _bring_up(ws) if at_boot.rebooted(ws.home) else None
    if booting is None:
        at_boot.note(ws.home)
    try:
        while not ending.is_set():
            wake.clear()
            try:
                ws = load_applied(lab_file)
                await caretaker.renew(ws)
                await asyncio.to_thread(rules.note, ws)
            except DachaError as e:
                caretaker.failed = True
                log("the lab cannot be served as it is: " + " / ".join(e.lines()))
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(wake.wait(), AGAIN_S if caretaker.failed else None)
    finally:
        if booting:
            booting.cancel()
        caretaker.close()
        log("ends")


def run(lab_file: Path) -> None:
    """Serve the lab, if nobody does yet. Raises BusyError when somebody does."""
    home = load_applied(lab_file).home
    with locked(lock_file(home), "dacha caretaker run", 0.0):
        asyncio.run(serve(lab_file))


if __name__ == "__main__":
    with contextlib.suppress(BusyError):
        run(Path(sys.argv[1]))
