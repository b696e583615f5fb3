"""dacha reach."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


# More networks than this are shown together: the guest's own, and all others.
COLUMNS_MOST = 3


def reach_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Show who can reach what: for every service of every guest, the address and port to type from this host, from\n"
        "a machine on each network, from the LAN and from outside, or why it is unreachable. All of it is computed "
        "from the\n"
        "lab file; dacha trace tests one path."
    )
    arguments.guests(parser, "only these guests (default: all)")
    parser.add_argument(
        "--from", dest="origins", metavar="PLACE", action="append", default=[],
        help="only from this place: host, lan, outside, or a network; may be repeated",
    )  # fmt: skip
    arguments.for_person(parser, "only what this person may enter, from their place")
    parser.add_argument("--service", metavar="NAME", help="only this service: ssh, rdp, http, or a door's name")
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--open", action="store_true", help="only services that are reachable from a shown place")
    which.add_argument("--shut", action="store_true", help="only services that are unreachable from a shown place")
    parser.add_argument("--why", action="store_true", help="for every unreachable service, show how to open it")


def run_reach(args: argparse.Namespace) -> int:
    from dacha.cli.words import closed_here, here_json, person_words
    from dacha.core.people.ways import places_of, rows_of
    from dacha.core.reach.of_host import to_host
    from dacha.core.reach.reach import places, reach
    from dacha.core.spelling import did_you_mean
    from dacha.engine.lab.named import guest_named
    from dacha.engine.network.live import live_plan
    from dacha.engine.people.edits import person_named
    from dacha.engine.router.host_view import host_view
    from dacha.engine.workspace import load
    from dacha.host import ask_first

    ws = load(args.lab)
    ws.refuse_if_wrong()
    known = places(ws.lab)
    for place in args.origins:
        if place not in known:
            raise UsageError(
                f"--from: unknown place {place}", where=ws.path.name,
                remedy=did_you_mean(place, known, f"one of: {', '.join(known)}"),
            )  # fmt: skip
    for name in args.guests:
        guest_named(ws, name)
    person = person_named(ws, args.person) if args.person else None
    rows = reach(ws.lab, live_plan(ws), host_view(ws), args.guests or None)
    if person:
        rows = rows_of(ws.lab, person, rows)
    usual = [p for p in known if p in places_of(person)] if person else known
    shown = [p for p in known if p in args.origins] or usual
    if args.service:
        rows = [r for r in rows if args.service in (r.service, *r.doors)]
    if args.open or args.shut:
        rows = [r for r in rows if any(bool(r.cells[p].ways) == args.open for p in shown)]
    opened = to_host(ws.lab, ws.plan, gate=not ask_first.missing())
    if args.json:
        whose = {"person": person.name} if person else {}
        head = {"lab": ws.lab.name, **whose, "places": shown, "to_host": opened, **here_json(ws)}
        output.emit_rows(head, "services", (_json(r, shown) for r in rows))
        return 0
    if person:
        output.say(f"{person.name} {person_words(person)}\n")
    if not rows:
        output.say("Nothing to show." if ws.lab.guests else "No guests yet. Next: dacha guest add NAME --from IMAGE")
        return 0
    if closed := closed_here(ws):
        output.say(f"Doors {closed}\n")
    together = not args.origins and len(ws.lab.networks) > COLUMNS_MOST
    _table(ws, rows, shown, together)
    _to_host(opened, {a.network for r in rows for a in ws.lab.guests[r.guest].adapters})
    if args.why:
        _reasons(rows, shown)
    if any(door.means == "forward" for door in ws.plan.doors.values()):
        output.say("Doors forward single ports, not ping: to test one, use dacha trace or dacha probe.")
    return 0


def _to_host(open_to: dict[str, Any], shown: set[str]) -> None:
    """Services of this host that the shown guests may use; identical networks share a line."""
    alike: dict[tuple[str, ...], list[str]] = {}
    for network, what in open_to.items():
        if network in shown:
            alike.setdefault(what, []).append(network)
    if alike:
        output.say()
    for what, networks in alike.items():
        names = ", ".join(networks[:3]) + (f" and {len(networks) - 3} more" if networks[3:] else "")
        output.say(f"From guests on {names} to this host itself: {', '.join(what)}")


def _title(place: str) -> str:
    return {"host": "THIS HOST"}.get(place, place.upper())


class _Texts(dict[int, str]):
    """The text of each cell; many places share one."""

    def __init__(self) -> None:
        super().__init__()
        from dacha.core.plan.doors import endpoint
        from dacha.core.reach.reach import BY_DHCP

        self._endpoint, self._by_dhcp = endpoint, BY_DHCP

    def of(self, cell: Any) -> str:
        if (found := self.get(id(cell))) is None:
            found = self[id(cell)] = self._made(cell)
        return found

    def _made(self, cell: Any) -> str:
        if not cell.ways:
            return f"no: {cell.why}"
        way = cell.ways[0]
        there = (
            f"by DHCP, port {way.port}" if way.address == self._by_dhcp else str(self._endpoint(way.address, way.port))
        )
        return there + (" for some" if cell.only else "")


def _table(ws: Workspace, rows: list[Any], shown: list[str], together: bool) -> None:
    from dacha.core.reach.reach import LAN, OUTSIDE

    networks = [p for p in shown if p in ws.lab.networks]
    columns = [p for p in shown if not (together and p in networks)]
    titles = [_title(p) for p in columns]
    if together:
        titles[1:1] = ["ITS NETWORK", "OTHER NETWORKS"]
    body, last, texts = [], "", _Texts()
    for row in rows:
        cells = [texts.of(row.cells[p]) for p in columns]
        if OUTSIDE in columns and LAN in columns and _no_further(row.cells[OUTSIDE], row.cells[LAN]):
            cells[columns.index(OUTSIDE)] = "no"  # what does not reach the LAN needs no further reason
        if together:
            cells[1:1] = _grouped(ws, row, networks, texts)
        name = row.guest if row.guest != last else ""
        last = row.guest
        body.append((name, row.service, f"{row.to}{'' if row.protocol == 'tcp' else ' ' + row.protocol}", *cells))
    shade = output.DIM
    output.table(("GUEST", "SERVICE", "PORT", *titles), body, lambda n, cell: shade if cell.startswith("no") else None)


def _no_further(outside: Any, lan: Any) -> bool:
    return not outside.ways and outside.why == lan.why


def _grouped(ws: Workspace, row: Any, networks: list[str], texts: _Texts) -> list[str]:
    """The guest's own networks as one column, and how many of the others have a path."""
    own = {a.network for a in ws.lab.guests[row.guest].adapters}
    mine = [row.cells[n] for n in networks if n in own]
    best = next((c for c in mine if c.ways), mine[0] if mine else None)
    others = len(networks) - len(mine)
    # A value's first field is its paths: by its number, as a large lab has a hundred thousand cells.
    open_ones = len([1 for cell in map(row.cells.__getitem__, networks) if cell[0]]) - sum(bool(c.ways) for c in mine)
    counted = "-" if not others else f"{open_ones or 'none'} of {others}"
    return [texts.of(best) if best else "-", counted]


def _reasons(rows: list[Any], shown: list[str]) -> None:
    output.say()
    for row in rows:
        for place in shown:
            cell = row.cells[place]
            if not cell.ways and cell.remedy:
                output.say(f"{row.guest} {row.service} from {_title(place).lower()}: {cell.why}\n  {cell.remedy}")
            if cell.only:
                output.say(f"{row.guest} {row.service} from {_title(place).lower()}: allows {', '.join(cell.only)}")


def _json(row: Any, shown: list[str]) -> dict[str, Any]:
    return {
        "guest": row.guest,
        "service": row.service,
        "protocol": row.protocol,
        "port": row.to.first,
        "last_port": row.to.last,
        "doors": list(row.doors),
        "from": _cells_json(row.cells, shown),
    }


def _cells_json(cells: dict[str, Any], shown: list[str]) -> dict[str, Any]:
    """The cells of a row; a value shared by several places is created once."""
    made: dict[int, dict[str, Any]] = {}
    for place in shown:
        if id(cells[place]) not in made:
            made[id(cells[place])] = _cell_json(cells[place])
    return {place: made[id(cells[place])] for place in shown}


def _cell_json(cell: Any) -> dict[str, Any]:
    if not cell.ways:
        return {"reachable": False, "ways": [], "why": cell.why, "remedy": cell.remedy or None}
    ways = [w._asdict() | {"only": list(w.only)} for w in cell.ways]
    return {"reachable": True, "ways": ways, "only": cell.only}
