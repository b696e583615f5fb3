"""Kernel settings that the networks need, with their former values remembered and put back (Linux: sysctl/net)."""

from __future__ import annotations

import contextlib
import json
import re
from pathlib import Path

from dacha.core.errors import HostError
from dacha.host import folders
from dacha.host.files import locked, replace_file
from dacha.host.records import parse

_ROOT = Path("/proc/sys")
# The settings that Dacha changes; whatever else a file names is none of them. A link's name has no slash and is not
# dots alone (Linux: dev_valid_name).
_KNOWN = re.compile(
    r"net/ipv4/ip_forward|net/ipv4/conf/all/src_valid_mark|net/ipv6/conf/all/forwarding|net/ipv6/conf/(?!\.{1,2}/)[^/\s]{1,15}/accept_ra"
)


def read(name: str) -> str | None:
    """A setting such as "net/ipv4/ip_forward"; None where this kernel has none."""
    try:
        return (_ROOT / name).read_text().strip()
    except OSError:
        return None


def has_ipv6() -> bool:
    """False where this host has IPv6 switched off for links that are made (Linux: ip-sysctl, disable_ipv6; the kernel
    parameter ipv6.disable)."""
    return read("net/ipv6/conf/default/disable_ipv6") == "0"


def write(name: str, value: str) -> None:
    """Raises HostError."""
    try:
        (_ROOT / name).write_text(value)
    except OSError as e:
        remedy = "it requires root" if isinstance(e, PermissionError) else ""
        raise HostError(f"cannot set {name.replace('/', '.')}", why=e.strerror or str(e), remedy=remedy) from e


def _memory() -> Path:
    # The settings are the network namespace's, and gone with it or with a reboot, as the run folder is.
    return folders.run() / f"sysctls-{Path('/proc/self/ns/net').stat().st_ino}.json"


def remembered() -> dict[str, str]:
    """The former values of the settings that Dacha changed in this network namespace."""
    try:
        found = dict(parse(_memory().read_text()))
    except (OSError, ValueError, TypeError):
        return {}
    return {name: value for name, value in found.items() if _KNOWN.fullmatch(name) and str(value).isdigit()}


# Forwarding, by IP version.
FORWARDING = {4: "net/ipv4/ip_forward", 6: "net/ipv6/conf/all/forwarding"}


def not_forwarded_before() -> tuple[int, ...]:
    """The IP versions that this host forwards for the labs' sake only."""
    former = remembered()
    return tuple(version for version, name in FORWARDING.items() if former.get(name, read(name)) == "0")


def _changing() -> contextlib.AbstractContextManager[None]:
    """Commands of several labs change settings at the same time, and record the former values in one file."""
    return locked(_memory().with_suffix(".lock"), "a change of this host's settings", 10.0)


def change(name: str, value: str) -> None:
    """Set a value and remember the former one, unless it is so already. Raises HostError."""
    if read(name) in (None, value):
        return
    with _changing():
        former = read(name)
        if former is None or former == value:
            return
        # Remembered first: killed between the two, the next apply finds the same former value.
        replace_file(_memory(), json.dumps(remembered() | {name: remembered().get(name, former)}))
        write(name, value)


def put_back() -> None:
    """Every changed setting as it was; what has gone since (a link's own settings) is passed over."""
    if not _memory().exists():
        return
    with _changing():
        for name, value in remembered().items():
            with contextlib.suppress(HostError):
                write(name, value)
        _memory().unlink(missing_ok=True)
