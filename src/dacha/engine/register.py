"""What every lab of this host uses: ports, subnets and links, in one register with one lock.

Two labs that are applied at the same time each know the other's choices. An entry is valid as long as its lab exists;
it is for one network namespace, like ports and links.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterator
from ipaddress import IPv4Network
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.core.findings import ERROR, Finding
from dacha.core.lab.model import Lab
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan
from dacha.engine.home import Home
from dacha.host import folders
from dacha.host.files import locked, replace_file
from dacha.host.records import parse

VERSION, WAIT_S = 1, 60.0


class Claim(NamedTuple):
    """The entry of one lab: (protocol, port, door) on this host, subnets, whether the kernel carries its doors, and
    whether it has links there."""

    lab: str
    home: str
    ports: tuple[tuple[str, int, str], ...] = ()
    subnets: tuple[str, ...] = ()
    kernel: bool = False
    links: bool = False


def _file() -> Path:
    return folders.shared_folder() / "claims.json"


def _namespace() -> str:
    return str(Path("/proc/self/ns/net").stat().st_ino)


@contextlib.contextmanager
def held(on_wait: Callable[[str], None] | None = None) -> Iterator[None]:
    """Prevent other labs from choosing meanwhile. Raises BusyError, HostError."""
    with locked(folders.shared() / "claims.lock", "dacha apply", WAIT_S, on_wait):
        yield


def _read() -> list[dict[str, Any]]:
    try:
        raw = parse(_file().read_text())
    except (OSError, ValueError):
        return []  # the next apply of each lab creates its entry again
    version = raw.get("version", 0) if isinstance(raw, dict) else None
    if not isinstance(version, int) or version > VERSION:
        raise HostError(f"{_file()} was written by a newer dacha", remedy="use that newer version")
    return [row for row in raw.get("claims", ()) if isinstance(row, dict)]


def of_others(home: Home) -> list[Claim]:
    """The entries of other labs in this network namespace."""
    here, found = _namespace(), []
    for row in _read():
        if row.get("namespace") != here or _is(row, home):
            continue
        if Path(str(row.get("home"))).is_dir():
            ports = tuple((str(p), int(n), str(d)) for p, n, d in row.get("ports", ()))
            subnets, flags = tuple(row.get("subnets", ())), (bool(row.get("kernel")), bool(row.get("links")))
            found.append(Claim(row["lab"], row["home"], ports, subnets, *flags))
    return found


def _is(row: dict[str, Any], home: Home) -> bool:
    """True for an entry of this lab, including one from before it was moved, whose old place is a link to the new
    one."""
    noted = Path(str(row.get("home")))
    return noted == home.folder or (noted.is_symlink() and noted.resolve() == home.folder)


def taken(home: Home) -> tuple[list[IPv4Network], set[tuple[str, int]]]:
    """The subnets and ports of other labs, to avoid them."""
    claims = of_others(home)
    subnets = [IPv4Network(s) for c in claims for s in c.subnets]
    return subnets, {(protocol, port) for c in claims for protocol, port, _ in c.ports}


def conflicts(home: Home, plan: Plan) -> list[Finding]:
    """Doors on a port that another lab's door uses, if the kernel carries one of the two: it would forward to whichever
    was loaded last. (Two listening programs conflict on the port itself.)"""
    found = []
    for claim in of_others(home):
        theirs = {(protocol, port): door for protocol, port, door in claim.ports}
        for (guest, name), door in plan.doors.items():
            if not (claim.kernel or door.backend == "kernel"):
                continue
            for forward in door.forwards():
                other = theirs.get((forward.protocol, forward.port))
                if other:
                    what = f"port {forward.port} of this host is used by door {other} of lab {claim.lab}"
                    path = ("guest", guest, "door", name, "port")
                    remedy = "choose another, or remove the key port"
                    found.append(Finding(ERROR, "port-other-lab", f"door {guest} {name}", what, remedy, path, "host"))
                    break
    return found


def refuse_other_state(home: Home, lab: Lab) -> None:
    """Refuse a lab whose links and rules are in this kernel from another state folder: both would change the same ones.
    Raises HostError."""
    if not any(n.by_kernel for n in lab.networks.values()):
        return
    for other in of_others(home):
        if other.lab == lab.name and other.links:
            raise HostError(
                f"a lab {lab.name} already exists on this host, in {other.home}",
                why=f"it was created with another state folder; here it is {home.folder}",
                remedy=f"use that folder: DACHA_STATE={Path(other.home).parent.parent}, or choose another name for "
                "this lab",
            )


def gone() -> list[str]:
    """State folders of registered labs that were deleted."""
    return sorted({str(row.get("home")) for row in _read() if not Path(str(row.get("home"))).is_dir()})


def forget_gone() -> None:
    """Remove their entries from the register. Raises BusyError, HostError."""
    with held():
        before = _read()
        rows = [row for row in before if Path(str(row.get("home"))).is_dir()]
        if rows != before:
            replace_file(_file(), json.dumps({"version": VERSION, "claims": rows}), 0o600)


def claim(home: Home, lab: Lab, plan: Plan) -> None:
    """Register this lab. The lock must be held."""
    row = {
        "namespace": _namespace(),
        "lab": lab.name,
        "home": str(home.folder),
        "ports": sorted({(f.protocol, f.port, f"{k[0]} {k[1]}") for k, d in plan.doors.items() for f in d.forwards()}),
        "subnets": [str(n.subnet) for n in plan.networks.values() if n.subnet and n.kind != "bridge"],
        "kernel": any(d.backend == "kernel" for d in plan.doors.values()),
        "links": any(n.by_kernel for n in lab.networks.values()),
    }
    before = _read()
    rows = [r for r in before if not _is(r, home) or r.get("namespace") != row["namespace"]]
    rows = [r for r in rows if Path(str(r.get("home"))).is_dir()]
    after = json.loads(json.dumps({"version": VERSION, "claims": [*rows, row]}))
    if after["claims"] != before:
        replace_file(_file(), json.dumps(after), 0o600)
