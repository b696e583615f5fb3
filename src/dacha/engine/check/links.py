"""Bridge networks against this host: whether guests can use the interface in the lab file."""

from __future__ import annotations

import os
from pathlib import Path

from dacha.core.findings import ERROR, NOTE, WARNING, Finding, errors
from dacha.core.lab.network import Network
from dacha.core.network.confinement import REMEDY
from dacha.engine.network import confined
from dacha.engine.workspace import Workspace
from dacha.host.facts import program
from dacha.host.network import iproute, sysctls
from dacha.host.network.iproute import SeenLink

# Programs that kernel networks need: each with its Debian package and purpose.
_PROGRAMS = (
    ("ip", "iproute2", "creates network links"),
    ("tc", "iproute2", "blocks networks while their firewall rules are missing"),
    ("nft", "nftables", "provides doors, NAT and isolation"),
)


def kernel_findings(ws: Workspace) -> list[Finding]:
    """What prevents kernel networks on this host: missing programs, missing privileges."""
    carried = [n for n in ws.lab.networks.values() if n.by_kernel]
    if not carried:
        return []
    found = []
    for name, package, purpose in _PROGRAMS:
        if program(name) is None:
            what, remedy = f"{name} is not installed: it {purpose}", f"on Debian: apt install {package}"
            found.append(Finding(ERROR, "program-missing", "host", what, remedy, (), "host"))
    if os.geteuid() != 0:
        network = carried[0]
        remedy = "run dacha as root" + ("" if network.kind == "bridge" else ', or backend = "user"')
        what = "it is a kernel network, and only root can create links and rules"
        path = ("network", network.name)
        found.append(Finding(ERROR, "privilege", f"network {network.name}", what, remedy, path, "host"))
    managed = [n.name for n in carried if n.managed]
    if managed and not sysctls.has_ipv6():
        what = f"IPv6 is disabled on this host: guests on {', '.join(managed)} have IPv4 only"
        remedy = "to enable it: sysctl -w net.ipv6.conf.all.disable_ipv6=0 net.ipv6.conf.default.disable_ipv6=0"
        found.append(Finding(NOTE, "no-ipv6", "host", what, remedy, (), "host"))
    return found if errors(found) else [*found, *bridge_findings(ws)]


def confinement_findings(ws: Workspace) -> list[Finding]:
    """Running guests whose firewall rules or filters are missing."""
    found = confined.look(ws)
    if found is None or found.sound:
        return []
    severity = ERROR if found.missing else WARNING
    what = f"{found.what()}: {found.means()}"
    return [Finding(severity, "not-confined", "host", what, REMEDY, (), "host")]


def bridge_findings(ws: Workspace) -> list[Finding]:
    """Problems of each bridge network's interface, and consequences of its kind."""
    bridged = [n for n in ws.lab.networks.values() if n.kind == "bridge"]
    links = iproute.links() if bridged else {}
    return [f for network in bridged if (f := _finding(network, links))]


class _Said:
    """Findings about one bridge network."""

    def __init__(self, network: Network) -> None:
        self.network = network

    def __call__(self, severity: str, code: str, what: str, remedy: str, key: str = "interface") -> Finding:
        path = ("network", self.network.name, key)
        return Finding(severity, code, f"network {self.network.name}", what, remedy, path, "host")


def _finding(network: Network, links: dict[str, SeenLink]) -> Finding | None:
    """The most important problem of a bridge network's interface, or a consequence of its kind."""
    said = _Said(network)
    name = network.made_from or network.interface or ""
    if network.made_from and (found := _made_from_finding(said, network.made_from, links)):
        return found
    if network.vlan is not None and not iproute.has_vlans():
        what = f"VLAN {network.vlan} cannot be used: this kernel does not support VLAN links (module 8021q)"
        remedy = "use a kernel with this module, or assign the VLAN to this port on the switch and remove the key vlan"
        return said(ERROR, "vlan", what, remedy, "vlan")
    link = links.get(name)
    if link is None:
        usable = [
            n for n, x in links.items() if x.up and n != "lo" and not x.master and not x.alias.startswith("dacha:")
        ]
        has = f"it has: {', '.join(usable) if usable else 'neither a bridge nor a wired adapter that is up'}"
        return said(ERROR, "no-interface", f"this host has no interface {name}", has)
    if link.kind != "bridge" and (Path(f"/sys/class/net/{name}/phy80211").exists()):
        what = f"{name} is wireless: an access point accepts frames of its own stations only, so guests cannot use it"
        return said(ERROR, "wireless", what, 'use a wired adapter, or kind = "nat" with doors from the LAN')
    if not link.up:
        return said(ERROR, "interface-down", f"{name} is down", f"ip link set {name} up")
    return _moved_finding(said, link) if network.made_from else _used_finding(said, link)


def _made_from_finding(said: _Said, adapter: str, links: dict[str, SeenLink]) -> Finding | None:
    """What prevents creating a bridge over an adapter."""
    name = said.network.interface or ""
    there, under = links.get(name), links.get(adapter)
    if there is not None and not there.alias.startswith("dacha:"):
        what = f"{name} already exists, and was not created by Dacha"
        return said(ERROR, "bridge-there", what, "remove made-from to use it, or choose another name", "made-from")
    if under is not None and under.kind == "bridge":
        return said(ERROR, "made-from-bridge", f"{adapter} is a bridge itself", f'interface = "{adapter}"', "made-from")
    return None


def _moved_finding(said: _Said, link: SeenLink) -> Finding | None:
    """The consequences of creating a bridge over this adapter."""
    bridge = said.network.interface
    if link.master and link.master != bridge:
        return said(ERROR, "interface-taken", f"{link.name} belongs to {link.master}", "", "made-from")
    if link.master or not link.addresses:
        return None
    what = f"{link.name} carries this host's {', '.join(link.addresses)}: they move to {bridge}, and are moved back "
    what += "unless you confirm in time"
    remedy = "after apply, over the connection that you use: dacha apply --confirm\n"
    remedy += f'to keep them in place: interface = "{link.name}" without made-from'
    return said(WARNING, "addresses-move", what, remedy, "made-from")


def _used_finding(said: _Said, link: SeenLink) -> Finding | None:
    """The consequences of using this link as it is."""
    vlan = said.network.vlan
    if link.kind != "bridge" and link.master:
        remedy = f'interface = "{link.master}" if that is a bridge'
        return said(ERROR, "interface-taken", f"{link.name} belongs to {link.master}", remedy)
    if link.kind != "bridge" or vlan is not None:
        where = f"VLAN {vlan} of {link.name}" if vlan else link.name
        what = f"guests are directly on {where}: this host itself cannot reach them"
        remedy = "other machines can reach them; use a bridge on this host to reach them from here, too"
        return said(NOTE, "host-apart", what, remedy)
    return None
