"""UEFI for guests: the firmware's code, and a variable store of each guest's own."""

from __future__ import annotations

from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.files import write_whole

# Where distributions keep the firmware: its code, and an empty variable store that fits it.
_PLACES = (
    ("/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"),
    ("/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"),
    ("/usr/share/edk2/ovmf/OVMF_CODE.fd", "/usr/share/edk2/ovmf/OVMF_VARS.fd"),
    ("/usr/share/edk2/x64/OVMF_CODE.4m.fd", "/usr/share/edk2/x64/OVMF_VARS.4m.fd"),
)


def find() -> tuple[Path, Path]:
    """The firmware's code and its empty variables. Raises HostError when there is none on this machine."""
    for code, variables in _PLACES:
        if Path(code).is_file() and Path(variables).is_file():
            return Path(code), Path(variables)
    raise HostError("there is no UEFI firmware for guests on this machine", remedy="on Debian: apt install ovmf")


def prepare(own: Path) -> tuple[Path, Path]:
    """The code, and the guest's own variables at `own`, made from the empty ones when they are not there yet."""
    code, empty = find()
    if not own.is_file():
        write_whole(own, empty.read_bytes(), mode=0o600)
    return code, own
