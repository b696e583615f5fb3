"""UEFI for guests: the firmware's code, and a variable store of each guest's own."""

from __future__ import annotations

from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.files import replace_file

# Where distributions keep the firmware: its code, and an empty variable store that fits it.
_PLACES = (
    ("/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"),
    ("/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"),
    ("/usr/share/edk2/ovmf/OVMF_CODE.fd", "/usr/share/edk2/ovmf/OVMF_VARS.fd"),
    ("/usr/share/edk2/x64/OVMF_CODE.4m.fd", "/usr/share/edk2/x64/OVMF_VARS.4m.fd"),
)
# The same with Secure Boot: code that insists on it, and variables with the keys that systems are signed with.
_SECURE = (
    ("/usr/share/OVMF/OVMF_CODE_4M.secboot.fd", "/usr/share/OVMF/OVMF_VARS_4M.ms.fd"),
    ("/usr/share/edk2/ovmf/OVMF_CODE.secboot.fd", "/usr/share/edk2/ovmf/OVMF_VARS.secboot.fd"),
)


def find(secure: bool = False) -> tuple[Path, Path]:
    """The firmware's code and its empty variables. Raises HostError when there is none on this machine."""
    for code, variables in _SECURE if secure else _PLACES:
        if Path(code).is_file() and Path(variables).is_file():
            return Path(code), Path(variables)
    kind = "UEFI firmware with Secure Boot" if secure else "UEFI firmware"
    raise HostError(f"this host has no {kind} for guests", remedy="on Debian: apt install ovmf")


def prepare(folder: Path, secure: bool) -> tuple[Path, Path]:
    """The code, and the guest's own variables in `folder`, made from the empty ones when they are not there yet.

    With Secure Boot they are another file: the two kinds of variables do not fit each other's code.
    """
    code, empty = find(secure)
    own = folder / ("uefi-secure-variables.fd" if secure else "uefi-variables.fd")
    if not own.is_file():
        replace_file(own, empty.read_bytes(), mode=0o600)
    return code, own
