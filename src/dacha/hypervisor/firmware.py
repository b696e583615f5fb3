"""UEFI for guests: firmware code, and a variable store for each guest."""

from __future__ import annotations

from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.files import replace_file

# Paths of the firmware in distributions: code, and a matching empty variable store.
_PLACES = (
    ("/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"),
    ("/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"),
    ("/usr/share/edk2/ovmf/OVMF_CODE.fd", "/usr/share/edk2/ovmf/OVMF_VARS.fd"),
    ("/usr/share/edk2/x64/OVMF_CODE.4m.fd", "/usr/share/edk2/x64/OVMF_VARS.4m.fd"),
)
# The same with Secure Boot: code that enforces it, and variables with the keys that systems are signed with.
_SECURE = (
    ("/usr/share/OVMF/OVMF_CODE_4M.secboot.fd", "/usr/share/OVMF/OVMF_VARS_4M.ms.fd"),
    ("/usr/share/edk2/ovmf/OVMF_CODE.secboot.fd", "/usr/share/edk2/ovmf/OVMF_VARS.secboot.fd"),
)


# The guest's own variables in its folder: without Secure Boot, and with it.
VARIABLES = ("uefi-variables.fd", "uefi-secure-variables.fd")


def find(secure: bool = False) -> tuple[Path, Path]:
    """The firmware's code and its empty variables. Raises HostError if this host has none."""
    for code, variables in _SECURE if secure else _PLACES:
        if Path(code).is_file() and Path(variables).is_file():
            return Path(code), Path(variables)
    kind = "UEFI firmware with Secure Boot" if secure else "UEFI firmware"
    raise HostError(f"this host has no {kind} for guests", remedy="on Debian: apt install ovmf")


def prepare(folder: Path, secure: bool) -> tuple[Path, Path]:
    """The code, and the guest's own variables in `folder`, created from the empty ones if missing. With Secure Boot
    they are another file: the two kinds of variables require their own code."""
    code, empty = find(secure)
    own = folder / VARIABLES[secure]
    if not own.is_file():
        replace_file(own, empty.read_bytes(), mode=0o600)
    return code, own
