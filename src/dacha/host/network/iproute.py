"""Links and addresses of this host (or of the current network namespace), read and changed through iproute2.

Its JSON and batch modes cost a few milliseconds; a netlink library would cost a command a hundred times that.
"""

from __future__ import annotations

import json
import re
import stat
import subprocess
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.core.network.marks import FORWARD
from dacha.host.facts import program


class SeenLink(NamedTuple):
    """A link in the kernel. `addresses` are texts with prefix lengths, without link-local ones; a tap has `carrier`
    while a process has it open."""

    name: str
    alias: str
    kind: str
    hardware_address: str
    master: str | None
    parent: str | None
    up: bool
    carrier: bool
    addresses: tuple[str, ...]
    vlan: int | None = None
    group: str = "default"
    arp: bool = True


def _tool() -> str:
    found = program("ip")
    if not found:
        raise HostError("ip is not installed: it creates networks", remedy="on Debian: apt install iproute2")
    return found


def reason(said: str) -> str:
    """What the kernel refused, from the messages of ip or tc."""
    return next(iter(said.strip().splitlines()), "").removeprefix("RTNETLINK answers: ").removeprefix("Error: ")


def policy_rules(version: int) -> set[int]:
    """The preferences of this host's policy rules for an IP version (ip-rule(8)). Raises HostError."""
    done = subprocess.run(
        [_tool(), f"-{version}", "-json", "rule", "show"], capture_output=True, text=True, check=False
    )
    try:
        return {int(row["priority"]) for row in json.loads(done.stdout or "[]")}
    except (ValueError, KeyError) as e:
        raise HostError("cannot read this host's policy rules", why=done.stderr.strip() or str(e)) from e


def links() -> dict[str, SeenLink]:
    """Every link by its name. Raises HostError."""
    done = subprocess.run([_tool(), "-json", "-details", "address", "show"], capture_output=True, check=False)
    if done.returncode:
        raise HostError("cannot read this host's links", why=done.stderr.decode(errors="replace").strip())
    found = {}
    for row in json.loads(done.stdout or "[]"):
        addresses = tuple(
            f"{a['local']}/{a['prefixlen']}" for a in row.get("addr_info", ()) if a.get("scope") != "link"
        )
        found[row["ifname"]] = SeenLink(
            name=row["ifname"],
            alias=row.get("ifalias", ""),
            kind=row.get("linkinfo", {}).get("info_kind", ""),
            hardware_address=row.get("address", ""),
            master=row.get("master"),
            parent=row.get("link"),
            up="UP" in row.get("flags", ()),
            carrier="LOWER_UP" in row.get("flags", ()),
            addresses=addresses,
            vlan=row.get("linkinfo", {}).get("info_data", {}).get("id"),
            group=str(row.get("group", "default")),
            arp="NOARP" not in row.get("flags", ()),
        )
    return found


def way_to(address: str) -> str | None:
    """The link by which this host reaches an address; None without a route."""
    return own_way(address).link or None


class OwnWay(NamedTuple):
    """How this host's own packets reach an address: the `link` ("" without a route), the `source` that the kernel uses,
    its reason if it sends none from there (a policy rule for that source forbids it), and the router on the way ("" for
    a machine on the link itself)."""

    link: str
    source: str = ""
    refused: str = ""
    router: str = ""


def own_way(address: str, *, with_source: bool = False) -> OwnWay:
    """The way of this host's own packets; `with_source` also asks for the source that it would use."""
    command = [_tool(), "-json", "route", "get", address]
    done = subprocess.run(command, capture_output=True, check=False)
    rows = json.loads(done.stdout or "[]") if done.returncode == 0 else []
    link, source, router = (str(rows[0].get(k, "")) for k in ("dev", "prefsrc", "gateway")) if rows else ("",) * 3
    if not with_source or not source:
        return OwnWay(link, source, router=router)
    done = subprocess.run([*command, "from", source], capture_output=True, check=False)
    return OwnWay(link, source, reason(done.stderr.decode(errors="replace")) if done.returncode else "", router)


def forwarded(address: str, source: str, link: str) -> tuple[str, str]:
    """The link by which the kernel would forward a lab's packet from another machine that arrives by `link` ("" if it
    would not), and the kernel's reason if it would not: its forwarding, reverse path filters, and policy rules
    decide."""
    command = [_tool(), "-json", "route", "get", address, "from", source, "iif", link, "mark", f"{FORWARD:#x}"]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    rows = json.loads(done.stdout or "[]") if done.returncode == 0 else []
    return (str(rows[0]["dev"]) if rows and "dev" in rows[0] else ""), reason(done.stderr)


def forwarded_together(ways: Iterable[tuple[str, str, str]]) -> list[str]:
    """As `forwarded`, for many (address, source, link) at once: the links of those that would be forwarded, in their
    order."""
    lines = [f"route get {to} from {source} iif {link} mark {FORWARD:#x}" for to, source, link in ways]
    if not lines:
        return []
    command = [_tool(), "-json", "-force", "-batch", "-"]
    done = subprocess.run(command, input="\n".join(lines) + "\n", capture_output=True, text=True, check=False)
    return re.findall(r'"dev":"([^"]+)"', done.stdout)


def pinned(address: str, link: str) -> str:
    """The hardware address that this host was told by hand to use for an address; "" without such an entry."""
    rows = _neighbours(address, link, "nud", "permanent")
    return str(rows[0].get("lladdr", "")) if rows else ""


def has_neighbour(address: str, link: str) -> bool:
    """True if the kernel has a hardware address for an address on a link (ip-neighbour(8))."""
    return any("lladdr" in row and "FAILED" not in row.get("state", ()) for row in _neighbours(address, link))


def _neighbours(address: str, link: str, *which: str) -> list[dict[str, Any]]:
    command = [_tool(), "-json", "neighbour", "show", "to", address, "dev", link, *which]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    return json.loads(done.stdout or "[]") if done.returncode == 0 else []


def bridge_ports(bridge: str) -> list[str]:
    """The ports of a bridge; none for another link, or without it."""
    folder = Path(f"/sys/class/net/{bridge}/brif")
    return sorted(port.name for port in folder.iterdir()) if bridge and folder.is_dir() else []


def has_vlans() -> bool:
    """True if this kernel supports VLAN links, or has a module for them; also if its modules are hidden from this
    process, as from a service under systemd: the kernel loads the module when the first such link is created."""
    if Path("/proc/net/vlan").is_dir() or is_hidden(Path("/lib/modules")):
        return True
    tool = program("modprobe")
    return tool is not None and subprocess.run([tool, "-n", "-q", "8021q"], check=False).returncode == 0


def is_hidden(folder: Path) -> bool:
    """True for a folder that systemd made inaccessible (systemd.exec(5), InaccessiblePaths)."""
    try:
        return not stat.S_IMODE(folder.stat().st_mode)
    except PermissionError:
        return True
    except OSError:
        return False


def batch(commands: Iterable[str], *options: str, remedy: str = "") -> None:
    """Run iproute2 commands in order, in one process. Raises HostError that names the one that failed, with `remedy`
    unless privileges are missing; those before it have been carried out."""
    lines = list(commands)
    if not lines:
        return
    done = subprocess.run(
        [_tool(), *options, "-batch", "-"], input="\n".join(lines) + "\n", capture_output=True, text=True, check=False
    )
    if done.returncode:
        words = done.stderr.strip().splitlines()
        at = next((w.rpartition(":")[2] for w in words if w.startswith("Command failed")), "")
        line = lines[int(at) - 1] if at.isdigit() and 0 < int(at) <= len(lines) else ""
        why = reason(done.stderr)
        raise HostError(
            f"the kernel refused: ip {line}" if line else "the kernel refused a change of its links",
            why=why,
            remedy="run it as root: creating networks requires it" if "not permitted" in why else remedy,
        )
