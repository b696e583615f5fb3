"""The place of a caretaker's unit: looked at by quick commands, which load nothing for it."""

from __future__ import annotations

import os
from pathlib import Path

from dacha.host import folders


def unit_name(lab: str) -> str:
    return f"dacha-{lab}.service"


def unit_folder() -> Path:
    """The folder of this user's units: the host's for root."""
    if os.geteuid() == 0:
        return Path("/etc/systemd/system")
    return folders.config().parent / "systemd" / "user"


def unit_path(lab: str) -> Path:
    return unit_folder() / unit_name(lab)


def installed(lab: str) -> bool:
    return unit_path(lab).exists()
