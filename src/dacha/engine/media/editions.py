"""The editions of Windows on a guest's installation medium, and the one to install."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.lab.model import Guest
from dacha.engine.media.media_facts import inspect
from dacha.engine.media.media_store import Store
from dacha.engine.workspace import Workspace

if TYPE_CHECKING:
    from dacha.formats.wim import Edition


def editions_of(ws: Workspace, guest: Guest) -> list[Edition]:
    """The editions on the guest's medium; empty if the medium lists none, or does not exist."""
    from dacha.formats.wim import Edition

    written = guest.install or ""
    kept = None if "/" in written else Store(ws.lab).find(written)
    path = kept.path if kept else ws.resolve(written)
    # A medium that an older version stored was not asked for them.
    facts = kept.facts if kept and "editions" in kept.facts else inspect(path) if path.is_file() else {}
    return [Edition(int(index), str(edition), str(name)) for index, edition, name in facts.get("editions", ())]


def edition_of(ws: Workspace, guest: Guest) -> Edition | None:
    """The edition to install: that of the lab file; else the first that suits the guest's doors. None if the medium has
    none such."""
    from dacha.formats.wim import chosen

    desktop = bool(guest.setup.remote_desktop) or any(d.service == "rdp" for d in guest.doors)
    return chosen(editions_of(ws, guest), guest.edition, remote_desktop=desktop)
