"""The caretaker's root part as it serves one lab: its sockets, its journals, the orders to the packet worker."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import time
from collections.abc import Callable, Sequence
from functools import partial
from ipaddress import IPv4Address, IPv6Address

from dacha.caretaker.file_service import FileService
from dacha.caretaker.following import Following, taps_of
from dacha.caretaker.guarding import Guarding
from dacha.caretaker.here.naming import NOTHING, Naming
from dacha.caretaker.here.placing import Placing
from dacha.caretaker.here.resolving import follow_resolvers
from dacha.caretaker.journal import Journal
from dacha.caretaker.minding.housekeeping import Housekeeping
from dacha.caretaker.packets.messages import (
    LAN,
    Begin,
    BootFile,
    Keep,
    Kept,
    Listen,
    Order,
    Says,
    Serve,
    Stop,
    Told,
    Up,
    Used,
    Want,
    may_keep,
)
from dacha.caretaker.router import Outside
from dacha.caretaker.services import Served, host_resolvers, names_of, served
from dacha.caretaker.sockets import FrameSockets, Opened, open_network
from dacha.caretaker.workers import Workers
from dacha.core.errors import DachaError
from dacha.core.plan.plan import Plan
from dacha.engine.apply.pending import follows_places
from dacha.engine.caretaker.process import RotatingLog
from dacha.engine.network import install_files, live
from dacha.engine.network.boot_files import first_files, open_beneath
from dacha.engine.network.links import wanted_links
from dacha.engine.router import mappings
from dacha.engine.workspace import Workspace
from dacha.host.accounts import account_for

# How long the first worker may take, so that everything is served when the caretaker has started.
UP_S = 60.0


class Caretaker:
    """Everything that is served for one lab; `renew` adapts it to the lab file."""

    def __init__(self, log: RotatingLog, again: Callable[[], None]) -> None:
        """`again` requests another `renew`."""
        self._log, self._again = log, again
        self._sockets: dict[str, Opened] = {}
        self._journals: dict[str, Journal] = {}
        self._served: dict[str, Served] = {}
        self._frames = FrameSockets()
        self._missing: dict[str, str] = {}
        self._taps = Listen({})
        self._ws: Workspace | None = None
        self._now: Plan | None = None
        self._workers: Workers | None = None
        self._following: Following | None = None
        self._outside: Outside | None = None
        self._guarding: Guarding | None = None
        self._placing: Placing | None = None
        self._housekeeping = Housekeeping(log)
        self._files = FileService(log.say)
        self._naming = Naming(self._order_names, log.say)
        self._up = asyncio.Event()
        self._resolving: asyncio.Task[None] | None = None
        self.failed = False

    async def renew(self, ws: Workspace) -> None:
        """Serve what the lab requires. What is not possible now is logged, and tried again by the caller."""
        self._resolving = self._resolving or asyncio.ensure_future(
            follow_resolvers(host_resolvers, self._resolved, self._log.say)
        )
        served_before = {name: (x, self._sockets[name]) for name, x in self._served.items() if name in self._sockets}
        self._close_services()
        # Running guests keep the settings that they were started with, whatever the lab file says by now.
        plan = live.started(ws, ws.plan)
        self._housekeeping.renew(ws)
        self._naming.renew(ws, plan)
        self.failed, self._ws, self._now = False, ws, plan
        links = wanted_links(ws, plan)
        # Sockets of an unchanged link stay open: what arrives in the meantime waits in them.
        before, self._sockets = self._sockets, {}
        # So do journals: they hold the leases that could not be written to a full disk.
        journals, self._journals = self._journals, {}
        for network in served(ws.lab, plan, links, partial(first_files, ws)):
            self._open(ws, network, before, journals)
        for opened in before.values():
            opened.close()
        for journal in journals.values():
            journal.close()
        self.failed |= not self._files.renew(ws, plan, links)
        if links.links:
            self._taps = Listen(taps_of(ws, plan, links))
            served_by = {n: (x.bridge.name, str(x.scope.server)) for n, x in self._served.items() if x.scope}
            missing = self._frames.renew(self._taps.taps, served_by)
            if missing and missing != self._missing:
                self._log.say(f"cannot listen at {', '.join(f'{n} ({why})' for n, why in missing.items())}")
            self._missing = missing
            self._following = Following(ws, plan, links, self._names, self._log.say, self._housekeeping.alerts)
        if self._sockets or self._frames.opened or self._naming.wanted:
            if self._workers and self._workers.pid():
                self._order_changes(served_before)
            else:
                self._workers = self._workers or Workers(
                    account_for(ws.home.folder), self._heard, self._order, self._log.say
                )
                self._order()
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(self._up.wait(), UP_S)
        elif self._workers:
            self._workers.close()
            self._workers = None
        if links.bridges():
            try:
                say = partial(self._log.say, bucket="guarding")
                self._guarding = Guarding(ws, say, self._again, self._missing, self._housekeeping.alerts)
            except OSError as e:
                self.failed = True
                self._log.say(f"cannot notice when another program changes the lab's rules: {e.strerror or e}")
        if mappings.needed(ws):
            self._outside = Outside(ws, self._log.say)
        if follows_places(ws):
            self._placing = Placing(ws, partial(self._log.say, bucket="places"), self._again)

    def _open(self, ws: Workspace, network: Served, before: dict[str, Opened], journals: dict[str, Journal]) -> None:
        name, link = network.bridge.network, network.bridge.name
        six = network.scope6 is not None and network.advertisement is not None
        try:
            if network.scope:
                there = name in journals and journals[name].there()
                self._journals[name] = journals.pop(name) if there else Journal(ws.home.leases(name))
            boot = str(network.scope.server) if network.boot and network.scope else None
            wanted = (socket.if_nametoindex(link), network.scope is not None, six, network.resolvers, boot)
            if name in before and before[name].wanted == wanted:
                self._sockets[name] = before.pop(name)
            else:
                if name in before:
                    before.pop(name).close()
                four = network.scope is not None
                self._sockets[name] = Opened(
                    wanted, open_network(link, four=four, six=six, resolvers=network.resolvers, boot=boot)
                )
                self._log.say(f"{name}: serves DHCP and DNS on {link}, {', '.join(network.resolvers)}")
        except (OSError, DachaError) as e:
            self.failed = True
            why = e.strerror if isinstance(e, OSError) else str(e)
            self._log.say(f"{name}: cannot serve yet on {link}: {why}")
            return
        self._served[name] = network

    def _orders(self) -> list[tuple[Order, tuple[socket.socket, ...]]]:
        """All orders for a worker."""
        orders: list[tuple[Order, tuple[socket.socket, ...]]] = [(self._names_now(), ())]
        for name, network in self._served.items():
            sockets = self._sockets[name].sockets
            leases = tuple(self._journals[name].leases.values()) if name in self._journals else ()
            serve = Serve(
                name, network.bridge.name, network.scope, leases, network.scope6, network.advertisement,
                network.admitted, network.way_out, tuple(sockets),
            )  # fmt: skip
            orders.append((serve, tuple(sockets.values())))
        orders += [(self._taps, ()), self._naming.order()]
        return orders

    def _order(self) -> None:
        """Send all orders to a new worker."""
        if self._workers is None:
            return
        self._up.clear()
        try:
            self._workers.order(self._orders())
            self._workers.attach(self._frames.opened)
            self._workers.add(Begin())
        except OSError as e:
            self._workers.replace(f"cannot send its configuration: {e}")

    def _order_changes(self, before: dict[str, tuple[Served, Opened]]) -> None:
        """Send the differences to the present worker: unchanged networks are not interrupted."""
        assert self._workers is not None
        try:
            for name in before.keys() - self._served.keys():
                self._workers.add(Stop(name))
            for order, sockets in self._orders():
                if isinstance(order, Serve):
                    name = order.network
                    if name in before and before[name] == (self._served[name], self._sockets[name]):
                        continue
                self._workers.add(order, sockets)
            self._workers.attach(self._frames.opened)
        except OSError as e:
            self._workers.replace(f"it does not read its configuration: {e}")

    def _names_now(self) -> Order:
        assert self._ws is not None and self._now is not None
        return names_of(self._ws.lab, self._now, host_resolvers())

    def _order_names(self) -> None:
        """This host has another address on the LAN."""
        self._add(*self._naming.order())

    def _add(self, order: Order, sockets: Sequence[socket.socket] = ()) -> None:
        """One more order for the present worker, if there is one."""
        if self._workers:
            try:
                self._workers.add(order, sockets)
            except OSError as e:
                self._workers.replace(f"it does not read its configuration: {e}")

    def _resolved(self) -> None:
        if self._now:
            self._names(self._now)

    def _names(self, now: Plan) -> None:
        """Guests' addresses have changed: their names follow."""
        self._now = now
        self._add(self._names_now())

    def _heard(self, message: Told) -> None:
        match message:
            case Keep(number=number, network=network, lease=lease):
                scope = self._served[network].scope if network in self._served else None
                if scope is None or not may_keep(lease, scope, time.time()):
                    self._log.say(f"{network[:40]}: the packet worker requested an invalid lease")
                    return
                try:
                    self._journals[network].keep(lease)
                except OSError as e:
                    # A full disk never stops DHCP: the lease is in memory, and its address is probed before another
                    # client is offered it.
                    self._log.say(f"{network}: a lease could not be written yet: {e.strerror or e}", bucket=network)
                self._add(Kept(number))
                if lease.state == "bound" and self._following:
                    self._following.watch.leased(lease.hardware, lease.address)
            case Want(number=number, network=network, client=client, path=path):
                self._hand_file(number, network, client, path)
            case Used(link=link, address=IPv4Address() | IPv6Address() as address, by=by):
                if self._following:
                    self._following.watch.used(link, address, by)
            case Says(network=network, text=text):
                if network in self._served or network == LAN:
                    self._log.say(f"{network}: {text}", bucket=network)
            case Up():
                self._up.set()

    def _hand_file(self, number: int, network: str, client: str, path: str) -> None:
        """Open a file of the network's boot folder, or one that was generated for the requesting guest, and pass it to
        the worker."""
        boot = self._served[network].boot if network in self._served else None
        found = None
        if boot and self._ws and self._now:
            own = install_files.own_place(self._ws, self._now, network, client, path)
            found = open_beneath(*own) if own else open_beneath(self._ws.resolve(boot), path)
        if self._workers:
            try:
                self._workers.hand(BootFile(number, found[1] if found else None), found[0] if found else None)
            except OSError as e:
                self._workers.replace(f"it does not read its configuration: {e}")
        if found:
            os.close(found[0])

    def _close_services(self) -> None:
        for part in (self._following, self._outside, self._guarding, self._placing):
            if part:
                part.close()
        self._following = self._outside = self._guarding = self._placing = None
        self._served = {}

    def close(self) -> None:
        if self._resolving:
            self._resolving.cancel()
        if self._workers:
            self._workers.finish(NOTHING)
            self._workers.close()
            self._workers = None
        self._close_services()
        self._naming.close()
        self._housekeeping.close()
        self._files.close()
        for opened in self._sockets.values():
            opened.close()
        for journal in self._journals.values():
            journal.close()
        self._frames.close()
        self._sockets, self._journals = {}, {}
