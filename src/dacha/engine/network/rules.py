"""A lab's rules in the kernel: loaded by `apply`, and again by the caretaker when a guest's address changes.

The kernel lists rules in another form than they were written in, so the loaded rules are recorded: the digest of their
text, the doors in them, and (once it was computed) the digest of the kernel's listing.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable
from typing import Any

from dacha.core.named import NamedTuple
from dacha.core.network.door_ways import Closed, DoorWay, read_way, way_lines, ways
from dacha.core.network.links import KernelPlan, Ports
from dacha.core.network.marks import drop_filter
from dacha.core.network.rules import TABLE_FAMILIES, removal, ruleset, table_name
from dacha.core.plan.plan import Plan
from dacha.core.sha256 import sha256
from dacha.engine.network import live
from dacha.engine.network.links import wanted_links
from dacha.engine.workspace import Workspace
from dacha.host.files import locked
from dacha.host.network import connections, iproute, nft, sysctls, traffic_control
from dacha.host.records import read_record, write_record
from dacha.wire.link.conntrack import Connection

# Loading ten thousand doors takes a fifth of a second; concurrent loads wait for that. Just after its boot, a slow host
# may take half a minute, as the kernel loads modules then.
WAIT_S = 60.0
VERSION = 1
# That many doors are listed in a few milliseconds.
FEW = 300


# Connections that ended with their door: their number, by guest and door.
Ended = dict[tuple[str, str], int]


class Moved(NamedTuple):
    """Doors that differ between the loaded and the desired rules: (guest, name) of those that open and of those that
    close."""

    opened: tuple[tuple[str, str], ...]
    closed: tuple[tuple[str, str], ...]


def _noted(ws: Workspace) -> dict[str, Any]:
    return read_record(ws.home.kernel_note, VERSION)


def _note(ws: Workspace, value: dict[str, Any]) -> None:
    write_record(ws.home.kernel_note, VERSION, value)


def begin(ws: Workspace) -> None:
    """Record that the lab has something in the kernel from now on, whatever its file says later. Raises HostError."""
    if not ws.home.kernel_note.exists():
        _note(ws, {})


def _digest(text: str) -> str:
    return sha256(text.encode()).hexdigest()


def _keys(lines: Iterable[str]) -> tuple[tuple[str, str], ...]:
    return tuple(dict.fromkeys((line.split(" ", 2)[0], line.split(" ", 2)[1]) for line in lines))


def _places(lines: Iterable[str]) -> dict[str, None]:
    """Each door without its allowed sources: a change of those neither opens nor closes a door."""
    return dict.fromkeys(" ".join(line.split(" ")[:7]) for line in lines if line.count(" ") > 1)


def text_of(ws: Workspace, plan: Plan, links: KernelPlan) -> str:
    """The desired rules, with doors to the guests' present addresses."""
    return _text(ws, live.now(ws, plan), links)


def _text(ws: Workspace, now: Plan, links: KernelPlan) -> str:
    return ruleset(ws.lab, now, links, sysctls.not_forwarded_before(), _ports(links))


def _ports(links: KernelPlan) -> Ports:
    """The ports of the lab's bridges, and the bridges of other programs, at present. Raises HostError."""
    bridges = {b.name for b in links.bridges()}
    if not bridges:
        return Ports()
    there = iproute.links()
    plugged = (n for n, link in there.items() if link.master in bridges and n not in links.links)
    others = (n for n, link in there.items() if link.kind == "bridge" and not link.alias.startswith("dacha:"))
    return Ports(frozenset(there), tuple(sorted(plugged)), tuple(sorted(others)))


def _filters(links: KernelPlan) -> dict[str, traffic_control.Filter]:
    return {name: found for name, link in links.links.items() if (found := drop_filter(link))}


def unfiltered(links: KernelPlan, existing: Collection[str]) -> list[str]:
    """The existing links without the filter that blocks them while rules are missing. Raises HostError."""
    return traffic_control.without(_filters(links), existing)


def current(ws: Workspace, text: str, seen: str | None) -> bool:
    """True if the kernel has this very text, as far as `seen`, the digest of its listing, tells."""
    noted = _noted(ws)
    if seen is None or noted.get("text") != _digest(text):
        return False
    return seen == (noted.get("rules") or note(ws))


def moved(ws: Workspace, plan: Plan) -> Moved:
    """The doors that a load would open and close."""
    before = _places(str(_noted(ws).get("doors", "")).splitlines())
    after = _places(way_lines(live.now(ws, plan)))
    opened = _keys(line for line in after if line not in before)
    closed = _keys(sorted(before.keys() - after.keys()))
    return Moved(opened, tuple(key for key in closed if key not in opened))


def note(ws: Workspace) -> str | None:
    """Record the kernel's listing of the loaded rules, so that a later change by hand is noticed. Listing ten thousand
    doors takes longer than loading them, so apply leaves it to the caretaker and to later checks."""
    noted = _noted(ws)
    if not noted or noted.get("rules"):
        return noted.get("rules")
    found = nft.digest(table_name(ws.lab.name), TABLE_FAMILIES)
    if found and _noted(ws) == noted:
        _note(ws, noted | {"rules": found})
    return found


def adopt(ws: Workspace) -> None:
    """Record that the rules match this lab file, although nothing had to change."""
    noted = _noted(ws)
    if noted.get("text") and noted.get("lab") != _digest(ws.text):
        _note(ws, noted | {"lab": _digest(ws.text)})


def load(ws: Workspace, plan: Plan, lacking: Collection[str] = ()) -> Ended:
    """Replace the lab's rules atomically; returns the connections that were ended. The links that are `lacking` their
    filter get it afterwards. Raises HostError, BusyError."""
    with locked(ws.home.rules_lock, "loading rules", WAIT_S):
        now = live.now(ws, plan)
        links = wanted_links(ws, now)
        # The rules set the mark, the filters require it: so the rules come first.
        ended = _load(ws, now, _text(ws, now, links))
        if lacking:
            traffic_control.attach({name: f for name, f in _filters(links).items() if name in lacking})
        return ended


def follow(ws: Workspace) -> bool:
    """Let the doors follow the guests; True if the rules had to change. If the rules belong to another lab file, an
    apply is running: it loads them itself."""
    with locked(ws.home.rules_lock, "following a guest", WAIT_S):
        noted = _noted(ws)
        if noted.get("lab") != _digest(ws.text):
            return False
        now = live.now(ws, ws.plan)
        text = _text(ws, now, wanted_links(ws, now))
        if noted.get("text") == _digest(text):
            return False
        _load(ws, now, text)
        return True


def reload_changed(ws: Workspace) -> bool:
    """Load the rules again if they differ from the loaded ones; True if they did. `ws` is the lab as it was applied.
    Raises HostError, BusyError."""
    with locked(ws.home.rules_lock, "restoring rules", WAIT_S):
        noted = _noted(ws)
        if not noted.get("text") or noted.get("lab") != _digest(ws.text):
            return False
        name = table_name(ws.lab.name)
        there = nft.tables()
        now = live.now(ws, ws.plan)
        links = wanted_links(ws, now)
        text = _text(ws, now, links)
        # Whether the tables exist is known at once; listing ten thousand doors takes half a second.
        if (
            all((family, name) in there for family in TABLE_FAMILIES)
            and noted.get("text") == _digest(text)
            and nft.digest(name, TABLE_FAMILIES) == (noted.get("rules") or note(ws))
        ):
            return False
        _load(ws, now, text)
        return True


def _load(ws: Workspace, now: Plan, text: str) -> Ended:
    before = str(_noted(ws).get("doors", "")).splitlines()
    nft.load(text)
    lines = way_lines(now)
    noted: dict[str, str | None] = {"lab": _digest(ws.text), "text": _digest(text), "doors": "\n".join(lines)}
    if len(lines) <= FEW:
        # A change after this moment is noticed.
        noted["rules"] = nft.digest(table_name(ws.lab.name), TABLE_FAMILIES)
    _note(ws, noted)
    if before == lines:
        return {}
    kept = set(lines)
    return _end([way for line in before if line not in kept and (way := read_way(line))], now)


def _end(gone: list[DoorWay], now: Plan) -> Ended:
    """End the connections through doors that were closed, and those of clients that a door no longer allows."""
    if not gone:
        return {}
    closed = Closed(gone, ways(now))

    def door(c: Connection) -> tuple[str, str] | None:
        return closed.door_of(c.protocol, c.source, c.to, c.to_port, c.answers, c.answers_port)

    return dict(Counter(key for c in connections.end(lambda c: door(c) is not None) if (key := door(c))))


def remove(ws: Workspace) -> None:
    """Remove the lab's rules from the kernel. Raises HostError, BusyError."""
    with locked(ws.home.rules_lock, "removing rules", WAIT_S):
        # The record is deleted first: so the rules are not restored.
        _note(ws, {})
        nft.load(removal(ws.lab.name))
