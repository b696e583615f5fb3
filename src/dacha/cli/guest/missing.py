"""What a guest names and this host does not have: said as soon as it was written, not first when it is applied."""

from __future__ import annotations

from dacha.cli.terminal import output
from dacha.engine.workspace import Workspace

# Findings about files that somebody named: images, kernels, keys and media.
_NAMED = ("image", "boot-file", "key-file", "medium", "medium-boot", "storage-gone")


def say_missing(ws: Workspace, name: str) -> None:
    """A warning for each file of the guest that is not there, with what to do."""
    from dacha.engine.check.guest import file_findings
    from dacha.engine.guest.observe import observe_guest

    found = file_findings(ws, ws.lab.guests[name], observe_guest(ws.home, name, forwards=False))
    for f in found:
        if f.code in _NAMED:
            output.note(f"warning: {f.what}\n  {f.remedy}" if f.remedy else f"warning: {f.what}")
