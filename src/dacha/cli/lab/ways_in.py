"""The table at the end of an apply: how each door that was opened is entered, from this host, the LAN, and outside."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.core.plan.doors import DoorPlan
    from dacha.engine.workspace import Workspace

# A table longer than MOST shows its first FEW rows only.
MOST, FEW = 8, 3
Row = tuple[str, str, str, str]


def show_ways_in(ws: Workspace, opened: list[DoorPlan], *, outside: bool) -> None:
    """Print how the opened doors are entered; with `outside` also the doors for which the router was asked."""
    rows = [row for door in opened for row in _inside(ws, door)]
    if outside:
        rows += list(_outside(ws))
    if not rows:
        return
    output.say()
    output.table(("GUEST", "DOOR", "FROM", "ENTER BY"), rows if len(rows) <= MOST else rows[:FEW])
    if len(rows) > MOST:
        output.say(f"{len(rows) - FEW} more: dacha status shows all")


def _inside(ws: Workspace, door: DoorPlan) -> Iterator[Row]:
    """From this host and from the LAN."""
    from dacha.core.plan.doors import lan_place
    from dacha.host.network.addresses import lan_address

    guest, name, service = door.door.guest, door.door.name, door.door.service
    login = ws.lab.guests[guest].login
    if service == "ssh" and login:
        yield guest, name, "this host", f"dacha connect {guest}"
    elif not door.door.from_lan and door.port and service:
        yield guest, name, "this host", client(service, door.listen, door.port.first, "USER")
    if door.door.from_lan:
        place = lan_place(door, lan_address())
        if place and not place[0].is_loopback:
            yield guest, name, "the LAN", client(service, *place, login.user if login else "USER")


def _outside(ws: Workspace) -> Iterator[Row]:
    """The outside address of each door from outside; notes on what blocks it and what to enter in the router."""
    from dacha.engine.router import mappings

    for way in mappings.ways(ws):
        name = f"door {way.guest} {way.door}"
        if way.above:
            output.note(
                f"{name} is forwarded by the router, but not reachable from outside: {way.above}\n"
                "  the router itself is behind another NAT: ask the provider for a public address"
            )
        elif way.port:
            login = ws.lab.guests[way.guest].login
            service = ws.plan.doors[way.guest, way.door].door.service
            shown = client(service, way.address or "ROUTER", way.port, login.user if login else "USER")
            yield way.guest, way.door, "outside", shown
        else:
            output.note(
                f"{name} is not reachable from outside: {way.why}\n  enter this in the router by hand: {way.by_hand}"
            )


def client(service: str | None, address: Any, port: int, user: str) -> str:
    """The command for a client on another machine, or the plain address if there is no usual client."""
    if service == "ssh":
        return f"ssh -p {port} {user}@{address}"
    where = f"[{address}]:{port}" if ":" in str(address) else f"{address}:{port}"
    return f"{service}://{where}" if service in ("http", "https", "vnc") else where
