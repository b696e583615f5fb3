"""Files in a guest's entry. An entry with a missing or unusable file is refused before it is written."""

from __future__ import annotations

from collections.abc import Callable

from dacha.core.findings import Finding
from dacha.engine.check.guest import file_findings
from dacha.engine.guest.observe import observe_guest
from dacha.engine.workspace import Workspace

# Findings about values that the user specified: images, kernels, keys, media, sizes of disks.
NAMED = (
    "image", "boot-file", "key-file", "medium", "medium-boot", "storage-gone", "disk-small", "disk-shrink",
    "passphrase",
)  # fmt: skip
ANYWAY = "to write it anyway: --anyway"


def named_files(ws: Workspace, name: str) -> list[Finding]:
    """Problems of the files in the guest's entry."""
    guest = ws.lab.guests.get(name)
    if guest is None:
        return []
    seen = observe_guest(ws.home, name, forwards=False)
    return [f for f in file_findings(ws, guest, seen) if f.code in NAMED]


def judge_of(before: Workspace, name: str) -> Callable[[Workspace], list[Finding]]:
    """A check for `edit_lab`: problems of those files that the lab `before` did not have."""
    known = {(f.path, f.what) for f in named_files(before, name)}
    return lambda ws: [f for f in named_files(ws, name) if (f.path, f.what) not in known]
