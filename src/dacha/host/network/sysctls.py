"""Kernel settings that the networks need; former values are recorded and restored (Linux: sysctl/net)."""

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
# The settings that Dacha changes; others in a file are ignored. A link's name contains no slash and is not "." or ".."
# (Linux: dev_valid_name).
_KNOWN = re.compile(
    r"net/ipv4/ip_forward|net/ipv4/conf/all/src_valid_mark|net/ipv6/conf/all/forwarding|net/ipv6/conf/(?!\.{1,2}/)[^/\s]{1,15}/accept_ra"
)


def read(name: str) -> str | None:
    """A setting such as "net/ipv4/ip_forward"; None if this kernel does not have it."""
    try:
        return (_ROOT / name).read_text().strip()
    except OSError:
        return None


def has_ipv6() -> bool:
    """False if IPv6 is disabled for new links of this host (Linux: ip-sysctl, disable_ipv6; the kernel parameter
    ipv6.disable)."""
    return read("net/ipv6/conf/default/disable_ipv6") == "0"


def write(name: str, value: str) -> None:
    """Raises HostError."""
    try:
        (_ROOT / name).write_text(value)
    except OSError as e:
        remedy = "it requires root" if isinstance(e, PermissionError) else ""
        raise HostError(f"cannot set {name.replace('/', '.')}", why=e.strerror or str(e), remedy=remedy) from e


def _memory() -> Path:
    # Settings belong to the network namespace, and are lost with it or at a reboot, like the run folder.
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
    """Commands of several labs may change settings concurrently, and record former values in one file."""
    return locked(_memory().with_suffix(".lock"), "a change of this host's settings", 10.0, fleeting=True)


def change(name: str, value: str, *, later: bool = False) -> None:
    """Set a value and record the former one, unless it is already set. One that is changed `later`, beside commands, is
    left if all settings were restored meanwhile. Raises HostError."""
    if read(name) in (None, value):
        return
    with _changing():
        former = read(name)
        if former is None or former == value or (later and FORWARDING[6] not in remembered()):
            return
        # Recorded first: if it is killed in between, the next apply finds the same former value.
        replace_file(_memory(), json.dumps(remembered() | {name: remembered().get(name, former)}))
        write(name, value)


def put_back() -> None:
    """Restore every changed setting; those that no longer exist (of a link) are skipped."""
    if not _memory().exists():
        return
    with _changing():
        for name, value in remembered().items():
            with contextlib.suppress(HostError):
                write(name, value)
        _memory().unlink(missing_ok=True)
