"""What belongs to a guest's state beside its disks and its memory: UEFI variables, and the memory of its TPM."""

from __future__ import annotations

import os
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.states.snapshot import Snapshot
from dacha.engine.home import Home
from dacha.engine.states import records
from dacha.host.files import refused, replace_file
from dacha.hypervisor.firmware import VARIABLES

# Each file in a guest's folder, with the kind of its copy in a snapshot.
_FILES = {"variables": VARIABLES[0], "secure-variables": VARIABLES[1], "tpm": "tpm/tpm2-00.permall"}
# A longer one is not what it should be: its folder belongs to the guest's own user.
_MOST = 64 << 20


def copy(home: Home, guest: str, snapshot: Snapshot) -> None:
    """Copy these files into a snapshot. Raises HostError."""
    for kind, name in _FILES.items():
        if (data := read(home.guest(guest) / name)) is not None:
            replace_file(records.file_of(home, guest, snapshot, kind), data, 0o600)


def put_back(home: Home, guest: str, snapshot: Snapshot) -> None:
    """Make these files of a guest that is off what they were. Raises HostError."""
    for kind, name in _FILES.items():
        if (data := read(records.file_of(home, guest, snapshot, kind))) is not None:
            path = home.guest(guest) / name
            if path.parent.is_dir():
                replace_file(path, data, 0o600)


def read(path: Path) -> bytes | None:
    """The contents of a regular file; None if it does not exist. Raises HostError."""
    try:
        fd = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        return None
    except OSError as e:
        raise refused(path, e, "read") from e
    with os.fdopen(fd, "rb") as f:
        data = f.read(_MOST + 1)
    if len(data) > _MOST:
        raise HostError(f"{path} is too long", why=f"more than {_MOST} bytes")
    return data
