"""Keep the lab's firewall rules and links as they were applied: changes by other programs are reverted at once."""

from __future__ import annotations

import asyncio
import contextlib
import socket
import time
from collections.abc import Callable, Collection, Iterator

from dacha.caretaker.minding.alerts import Alerts
from dacha.core.apply.changes import Change, LoadRules, MakeLink
from dacha.core.errors import PeerError
from dacha.core.network.rules import table_name
from dacha.engine.caretaker.attempts import attempt
from dacha.engine.log.journal import note
from dacha.engine.network.links import wanted_links
from dacha.engine.network.restore import restore
from dacha.engine.workspace import Workspace
from dacha.host.network import nft
from dacha.host.network.kernel_events import links_socket, rules_socket
from dacha.wire.link.netlink import Event, LinkChange, OtherChange, TableChange, Transaction, link_events, rule_events

# Events are batched; after a failure, the next attempt comes this much later. After a check without a difference, the
# next one waits four times as long as the check took, with this maximum: starting guests change links, too.
TOGETHER_S, AGAIN_S, QUIET_MOST_S = 0.05, 1.0, 0.5
# Datagrams that are read together.
BURST = 256
# The interval for settings without kernel notifications.
LOOK_S = 20.0
_DATAGRAM = 1 << 16
Log = Callable[[str], None]


class Guarding:
    """Restores the lab's part of the kernel after every change, until `close`."""

    def __init__(
        self, ws: Workspace, log: Log, links_made: Callable[[], None], missing: Collection[str], alerts: Alerts
    ) -> None:
        """`links_made` is called after a link was created again, because sockets bound to the former one are useless,
        or when one of the `missing` appears. Raises OSError if this process cannot listen to the kernel, HostError."""
        self._ws, self._log, self._links_made, self._missing = ws, log, links_made, missing
        self._alerts = alerts
        self._table = table_name(ws.lab.name)
        links = wanted_links(ws, ws.plan)
        self._links, self._bridges = set(links.links), [b.name for b in links.bridges()]
        self._changed = asyncio.Event()
        self._changed.set()  # changes from before it started
        self._touched, self._by = False, ""
        self._sockets: list[socket.socket] = []
        for opened, read in ((rules_socket, rule_events), (links_socket, link_events)):
            s = opened()
            self._sockets.append(s)
            asyncio.get_running_loop().add_reader(s, self._readable, s, read)
        self._task = asyncio.ensure_future(self._guard())

    def close(self) -> None:
        self._task.cancel()
        for s in self._sockets:
            asyncio.get_running_loop().remove_reader(s)
            s.close()

    def _readable(self, s: socket.socket, read: Callable[[bytes], list[Event]]) -> None:
        try:
            for data in _waiting(s):
                for event in read(data):
                    self._heed(event)
        except (OSError, PeerError):
            # Messages were lost (ENOBUFS), or are malformed: everything is checked.
            self._changed.set()

    def _heed(self, event: Event) -> None:
        match event:
            case TableChange(table=table):
                self._touched |= table == self._table
            case Transaction(pid=pid, program=program) if self._touched:
                self._touched = False
                if pid not in nft.loaders:
                    self._by = f"{program} (process {pid})" if program else f"process {pid}"
                    self._changed.set()
            case LinkChange(name=name, master=master) if name in self._links or master in _numbers(self._bridges):
                # Links that an administrator adds to a bridge of the lab may pass once the rules name them.
                self._changed.set()
                if name in self._missing:
                    self._links_made()
            case OtherChange(link=link) if not link or link in _numbers(self._links):
                self._changed.set()

    def _restore(self) -> list[Change]:
        # The rules of another place would open doors that are closed here.
        return restore(self._ws.at_this_place())

    async def _guard(self) -> None:
        while True:
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._changed.wait(), LOOK_S)
            await asyncio.sleep(TOGETHER_S)
            self._changed.clear()
            by, self._by = self._by, ""
            began = time.monotonic()
            done: list[Change] = []
            with attempt(self._log, "cannot restore the lab's firewall rules and links") as this:
                done = await asyncio.to_thread(self._restore)
            if any(isinstance(c, LoadRules) for c in done) and not by:
                # It changed during this check: its author may be known by now.
                await asyncio.sleep(TOGETHER_S)
                by, self._by = self._by, ""
            for change in done:
                # The kernel names the process that changed rules, but not the one that changed links.
                who = by if by and isinstance(change, LoadRules) else "another program"
                text = f"changed by {who}; restored: {change.done()}"
                self._log(text)
                note(self._ws.home, "rules", ours=False, text=text, by=who)
                self._alerts.tell("rules-changed", None, text, by=who)
            if any(isinstance(c, MakeLink) and not c.there for c in done):
                self._links_made()
            if this.failed:
                await asyncio.sleep(AGAIN_S)
                self._changed.set()
            elif not done:
                await asyncio.sleep(min(QUIET_MOST_S, 4 * (time.monotonic() - began)))


def _numbers(links: Collection[str]) -> set[int]:
    """The present indexes of these links: notifications contain only indexes."""
    return {number for number, name in socket.if_nameindex() if name in links}


def _waiting(s: socket.socket) -> Iterator[bytes]:
    with contextlib.suppress(BlockingIOError):
        for _ in range(BURST):
            yield s.recv(_DATAGRAM)
