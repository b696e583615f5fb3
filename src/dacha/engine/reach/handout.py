"""A handout: from what the lab says who can reach what, the files that somebody's clients read, in one folder."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from dacha.core.errors import AnswerNo, UsageError
from dacha.core.lab.model import ORIGIN_WORDS
from dacha.core.lab.names import host_name
from dacha.core.reach.reach import BY_DHCP, ROUTER, reach
from dacha.engine.guest.first_boot import trusted_key
from dacha.engine.lab.named import guest_named
from dacha.engine.network.live import live_plan
from dacha.engine.router.host_view import host_view
from dacha.engine.workspace import Workspace
from dacha.formats.handout.putty import registry_file
from dacha.formats.handout.rdp import rdp_file
from dacha.formats.handout.sheet import sheet
from dacha.formats.handout.ssh import ssh_files
from dacha.formats.handout.way_in import Shut, WayIn
from dacha.host.files import refused, replace_file

# What marks a folder as a handout, so that one is made anew and nothing else is written over.
SHEET = "index.html"


class Handout(NamedTuple):
    """The ways in from a place, the services that have none there, and the files by their path in the folder."""

    origin: str
    ways: list[WayIn]
    shut: list[Shut]
    files: dict[str, bytes]


def handout(ws: Workspace, guests: Sequence[str], origin: str) -> Handout:
    """Everything that somebody gets who enters from `origin`: "host", "lan", "outside". Raises UsageError, AnswerNo."""
    for name in guests:
        guest_named(ws, name)
    ways, shut = [], []
    for row in reach(ws.lab, live_plan(ws), host_view(ws), guests or None):
        for door in row.doors:
            cell = row.cells[origin]
            own = next((w for w in cell.ways if w.through == f"door {door}"), next(iter(cell.ways), None))
            if own is None or own.address in (BY_DHCP, ROUTER):
                why = cell.why or f"its address is not known yet ({own.address if own else ''})"
                shut.append(Shut(row.guest, door, row.service, why, cell.remedy))
                continue
            login = ws.lab.guests[row.guest].login
            key = trusted_key(ws.home, row.guest) if row.service == "ssh" else ""
            name = host_name(ws.lab.name, row.guest)
            user = login.user if login and row.service in ("ssh", "rdp") else ""
            ways.append(WayIn(row.guest, door, row.service, own.address, own.port, name, user, key))
    if not ways:
        first = f": {shut[0].why}" if shut else ""
        remedy = (shut[0].remedy if shut else "") or f"dacha reach --from {origin} --why says what opens each"
        of = ", ".join(guests) or "this lab"
        raise AnswerNo(f"nothing of {of} can be entered from {ORIGIN_WORDS[origin]}{first}", remedy=remedy)
    return Handout(origin, ways, shut, _files(ws.lab.name, origin, ways, shut))


def _files(lab: str, origin: str, ways: list[WayIn], shut: list[Shut]) -> dict[str, bytes]:
    files = {f"{lab}/{name}": text.encode() for name, text in ssh_files(lab, ways).items()}
    registry = registry_file(lab, ways)
    if registry:
        files["putty.reg"] = registry
    files |= {f"rdp/{w.session.removesuffix('-rdp')}.rdp": rdp_file(w) for w in ways if w.service == "rdp"}
    files[SHEET] = sheet(lab, origin, ways, shut).encode()
    return files


def write(made: Handout, folder: Path) -> None:
    """Write the folder; one that is no handout is left as it is. Raises UsageError, HostError."""
    try:
        if folder.exists() and any(folder.iterdir()) and not (folder / SHEET).is_file():
            raise UsageError(
                f"{folder} has other things in it", remedy="name a folder that is empty, or that is not there yet"
            )
        for path in made.files:
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise refused(folder, e) from e
    for path, content in made.files.items():
        # The sheet comes last: a folder without it is not whole.
        replace_file(folder / path, content)
