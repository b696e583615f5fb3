"""What the installation of Windows does with a guest's entry: names, editions, and what is left out."""

from __future__ import annotations

from collections.abc import Iterator

from dacha.core.findings import ERROR, NOTE, WARNING, Finding
from dacha.core.lab.model import Guest
from dacha.core.spelling import did_you_mean
from dacha.engine.media.editions import edition_of, editions_of
from dacha.engine.workspace import Workspace


def windows_findings(ws: Workspace, guest: Guest) -> Iterator[Finding]:
    """Findings for a guest whose Windows is to be installed with answers."""
    from dacha.formats.answers.windows import ZONES, computer_name

    subject, path = f"guest {guest.name}", ("guest", guest.name, "install")
    if (short := computer_name(guest.name)) != guest.name:
        what = f"its host name becomes {short}: Windows allows 15 characters at most"
        yield Finding(NOTE, "computer-name", subject, what, "to avoid this, rename the guest", path, "host")
    zone = guest.setup.time_zone
    if zone and zone not in ZONES:
        what = f"Dacha knows no Windows name for the time zone {zone}; UTC is set"
        yield Finding(WARNING, "time-zone", subject, what, did_you_mean(zone, ZONES, ""), path, "host")
    left = [k for k in ("packages", "services", "files") if getattr(guest.setup, k)]
    if left:
        what = f"its installer does not support: {', '.join(left)}"
        remedy = 'use the key "run" instead: its commands run at the first login'
        yield Finding(NOTE, "answers-without", subject, what, remedy, path, "host")
    yield from _edition_findings(ws, guest)


def _edition_findings(ws: Workspace, guest: Guest) -> Iterator[Finding]:
    subject, path = f"guest {guest.name}", ("guest", guest.name, "edition")
    known = editions_of(ws, guest)
    if not known:
        if guest.edition:
            what = f"{guest.install} does not list its editions: the first one is installed, not {guest.edition}"
            remedy = f"dacha guest edit {guest.name} --unset edition"
            yield Finding(ERROR, "edition", subject, what, remedy, path, "host")
        return
    names = ", ".join(e.edition for e in known)
    door = next((d.name for d in guest.doors if d.service == "rdp"), None)
    fit = next((e.edition for e in known if e.remote_desktop), None)
    found = edition_of(ws, guest)
    if guest.edition and found is None:
        what = f"{guest.install} has no edition {guest.edition}: it has {names}"
        remedy = did_you_mean(guest.edition, [e.edition for e in known], f'edition = "{known[0].edition}"')
        yield Finding(ERROR, "edition", subject, what, remedy, path, "host")
    elif door and fit is None:
        what = f"no edition of {guest.install} takes remote desktop connections: door {door} will not respond"
        remedy = f"dacha door remove {guest.name} {door}, or use a medium of another edition"
        yield Finding(ERROR, "edition-desktop", subject, what, remedy, path, "host")
    elif door and found and not found.remote_desktop:
        what = f"{found.name} takes no remote desktop connections: door {door} will not respond"
        remedy = f"dacha guest edit {guest.name} --edition {fit}"
        yield Finding(ERROR, "edition-desktop", subject, what, remedy, path, "host")
    elif not guest.edition and found and len(known) > 1:
        what = f"{guest.install} has {len(known)} editions ({names}); {found.name} is installed"
        remedy = f"dacha guest edit {guest.name} --edition EDITION chooses another"
        yield Finding(NOTE, "edition-chosen", subject, what, remedy, path, "host")
