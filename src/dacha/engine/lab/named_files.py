"""Files that a guest's entry names: an entry that names one that is missing or unusable is refused as it is written."""

from __future__ import annotations

from collections.abc import Callable

from dacha.core.findings import Finding
from dacha.engine.check.guest import file_findings
from dacha.engine.guest.observe import observe_guest
from dacha.engine.workspace import Workspace

# Findings about what somebody named: images, kernels, keys, media, sizes of disks.
NAMED = ("image", "boot-file", "key-file", "medium", "medium-boot", "storage-gone", "disk-small", "disk-shrink")


def named_files(name: str, *, anyway: bool) -> Callable[[Workspace], list[Finding]]:
    """A judge for `edit_lab`: what is wrong about the files that the guest's entry names; nothing with `anyway`."""

    def judge(ws: Workspace) -> list[Finding]:
        guest = ws.lab.guests.get(name)
        if guest is None or anyway:
            return []
        seen = observe_guest(ws.home, name, forwards=False)
        return [f for f in file_findings(ws, guest, seen) if f.code in NAMED]

    return judge
