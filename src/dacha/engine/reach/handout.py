"""A handout: the files for a person's clients, from the reach of the lab, in one folder."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from dacha.core.errors import AnswerNo
from dacha.core.lab.client import Client
from dacha.core.lab.kinds import ORIGIN_WORDS
from dacha.core.lab.names import host_name
from dacha.core.lab.person import Person
from dacha.core.named import NamedTuple
from dacha.core.people.ways import places_of, rows_of
from dacha.core.reach.reach import BY_DHCP, ROUTER, Row, reach
from dacha.engine.guest.first_boot import trusted_key
from dacha.engine.lab.named import guest_named
from dacha.engine.network.live import live_plan
from dacha.engine.people.new_key import NewKey
from dacha.engine.router.host_view import host_view
from dacha.engine.workspace import Workspace
from dacha.formats.handout.profile import profile
from dacha.formats.handout.putty import registry_file
from dacha.formats.handout.rdp import Signer, rdp_file
from dacha.formats.handout.sheet import sheet
from dacha.formats.handout.ssh import ssh_files
from dacha.formats.handout.way_in import Shut, WayIn, apart

if TYPE_CHECKING:
    from dacha.core.lab.kinds import Origin

SHEET = "index.html"


class Handout(NamedTuple):
    """The ways in from a place, the services without one, and the files by their path in the folder; `private` are
    those that others must not read."""

    origin: Origin
    ways: list[WayIn]
    shut: list[Shut]
    files: dict[str, bytes]
    private: frozenset[str] = frozenset()


def handout(
    ws: Workspace,
    guests: Sequence[str],
    origin: Origin,
    person: Person | None = None,
    key: NewKey | None = None,
    signer: Signer | None = None,
) -> Handout:
    """Everything for a person who connects from `origin`: "host", "lan", "outside"; with `person` only their access,
    with `key` a new private key, with `signer` signed remote desktop files. Raises UsageError, AnswerNo."""
    for name in guests:
        guest_named(ws, name)
    rows = reach(ws.lab, live_plan(ws), host_view(ws), guests or None)
    if person:
        _refuse_place(person, origin)
        rows = rows_of(ws.lab, person, rows)
    ways: list[WayIn] = []
    shut: list[Shut] = []
    for row in rows:
        # A guest that is reached by its own address needs no door; an unreachable one is omitted.
        for door in row.doors or ((row.service,) if person or row.cells[origin].ways else ()):
            found = _way(ws, row, door, origin, person)
            if isinstance(found, WayIn):
                ways.append(found)
            else:
                shut.append(found)
    ways = apart(ways)
    if not ways:
        first = f": {shut[0].why}" if shut else ""
        remedy = (shut[0].remedy if shut else "") or f"dacha reach --from {origin} --why shows how to open each"
        of = f"what {person.name} may enter" if person else ", ".join(guests) or "this lab"
        raise AnswerNo(f"no door of {of} is reachable from {ORIGIN_WORDS[origin]}{first}", remedy=remedy)
    files = _files(ws.lab.name, origin, ways, shut, person.name if person else "", key)
    files |= {f"rdp/{w.file_name}.rdp": rdp_file(w, signer) for w in ways if w.service == "rdp"}
    secret = {f"{ws.lab.name}/{key.name}", f"{key.name}.ppk"} if key else set()
    return Handout(origin, ways, shut, files, frozenset(secret & set(files)))


def _refuse_place(person: Person, origin: Origin) -> None:
    if origin not in places_of(person):
        raise AnswerNo(
            f"{person.name} may enter from {ORIGIN_WORDS[person.origin]} only, not from {ORIGIN_WORDS[origin]}",
            remedy=f"dacha person edit {person.name} --from {origin}",
        )


def _way(ws: Workspace, row: Row, door: str, origin: str, person: Person | None) -> WayIn | Shut:
    """The best way to one door of a guest from a place, or why there is none."""
    cell = row.cells[origin]
    own = next((w for w in cell.ways if w.through == f"door {door}"), next(iter(cell.ways), None))
    if own is None or own.address in (BY_DHCP, ROUTER):
        why = cell.why or f"its address is not known yet ({own.address if own else ''})"
        return Shut(row.guest, door, row.service, why, cell.remedy)
    guest = ws.lab.guests[row.guest]
    user = person.account(guest) if person else guest.login.user if guest.login else None
    return WayIn(
        guest=row.guest,
        door=door,
        service=row.service,
        address=own.address,
        port=own.port,
        name=host_name(ws.lab.name, row.guest),
        user=user or "" if row.service in ("ssh", "rdp") else "",
        host_key=trusted_key(ws.home, row.guest) if row.service == "ssh" else "",
        client=next((d.client for d in guest.doors if d.name == door), Client()),
    )


def _files(
    lab: str, origin: Origin, ways: list[WayIn], shut: list[Shut], person: str, key: NewKey | None
) -> dict[str, bytes]:
    name = key.name if key else ""
    files = {f"{lab}/{path}": text.encode() for path, text in ssh_files(lab, ways, name).items()}
    registry = registry_file(lab, ways)
    if registry:
        files["putty.reg"] = registry
    if key and registry:
        files |= {f"{lab}/{name}": key.openssh.encode(), f"{name}.ppk": key.putty.encode()}
    files |= {
        f"linux/{w.file_name}-{w.service}.remmina": profile(lab, w) for w in ways if w.service in ("rdp", "vnc", "ssh")
    }
    files[SHEET] = sheet(lab, origin, ways, shut, name, person).encode()
    return files
