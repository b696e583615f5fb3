"""The lab that an apply carries out: refused if it cannot work here, with all that the plan chose written down."""

from __future__ import annotations

from collections.abc import Callable

from dacha.core.apply.changes import WriteDown
from dacha.core.apply.observed import ObservedGuest
from dacha.core.errors import BusyError, DachaError, HostFindings
from dacha.core.lab.table.read import read_lab
from dacha.core.lab.text.text_edits import edit_text
from dacha.core.named import NamedTuple
from dacha.engine.apply import readdress
from dacha.engine.check.refused import refused
from dacha.engine.disks import kept_disks
from dacha.engine.guest import rename
from dacha.engine.guest.observe import observe
from dacha.engine.lab.edit import settled
from dacha.engine.power import saving
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace, lab_error, read_text, write_text
from dacha.host.files import editing

# Called at the end of each step: its subject ("guest gauge"), what was done, and the seconds that it took.
Report = Callable[[str, str, float], None]


def settle(ws: Workspace, report: Report) -> Workspace:
    """Write the plan's choices into the file, so that they do not change. Returns the new workspace."""
    chosen = ws.plan.chosen
    if not chosen:
        return ws
    with editing(ws.path):
        if read_text(ws.path) != ws.text:
            raise BusyError(
                f"{ws.path.name} was changed while it was being applied", remedy="review it, then run dacha apply again"
            )
        text = edit_text(ws.text, settled(chosen))
        write_text(ws.path, text)
    for path, value in chosen.items():
        report("lab file", WriteDown(path, value).done(), 0.0)
    reading = read_lab(text, profiles())
    assert reading.lab is not None
    return Workspace(ws.path, text, reading.lab, reading.findings)


class Agreed(NamedTuple):
    """A lab that can be applied: with all choices written down; its guests as observed; the guests concerned; and those
    that cannot work here, with the reason."""

    ws: Workspace
    seen: dict[str, ObservedGuest]
    concerned: list[str]
    unfit: dict[str, DachaError]


def agreed(ws: Workspace, only: set[str] | None, report: Report, *, live_addresses: bool) -> Agreed:
    """Refuse a lab that cannot work here, and write the plan's choices into its file. A guest that cannot work does not
    prevent the others. Raises LabError, HostError, UsageError."""
    ws.refuse_if_wrong()
    if ws.home.rollback_note.exists() or any(network.made_from for network in ws.lab.networks.values()):
        from dacha.engine.network import rollback

        rollback.back_after()
        rollback.overdue(ws.home)
    rename.settle(ws)
    if live_addresses:
        readdress.settle(ws, [n for n in ws.lab.guests if only is None or n in only])
    for name in ws.home.guests():
        saving.settle(ws.home, name)
    if any(ws.home.has_unsettled(name) for name in ws.home.guests()):
        from dacha.engine.states.settling import settle_lab

        settle_lab(ws)
    seen = observe(ws.home, ws.lab.guests)
    concerned = [n for n in ws.lab.guests if only is None or n in only]
    found = refused(ws, seen, only)
    if found.lab or (found.guests and len(found.guests) == len(concerned)):
        raise lab_error_or_host(ws, found.all)
    concerned = [n for n in concerned if n not in found.guests]
    for name in concerned:
        # Nothing of an earlier guest of that name is in its way: it is a new one.
        kept_disks.take(ws.home, name)
        if any(d.passphrase for d in ws.lab.guests[name].disks):
            from dacha.engine.disks.disks import follow_sources

            follow_sources(ws, name)
    unfit = {name: lab_error_or_host(ws, wrong) for name, wrong in found.guests.items()}
    return Agreed(settle(ws, report), seen, concerned, unfit)


def lab_error_or_host(ws: Workspace, wrong: list) -> DachaError:  # type: ignore[type-arg]
    """The refusal for findings about this host: printed like the file's own errors, but with the host's exit code."""
    shown = lab_error(ws.path, ws.text, wrong)
    return HostFindings(shown.what)
