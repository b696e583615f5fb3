"""Files generated for a guest that is installed over its network, readable by that guest only, identified by its
address on the managed network, until it is installed."""

from __future__ import annotations

from pathlib import Path

from dacha.core.lab.model import Guest, Lab
from dacha.core.lab.network import Network
from dacha.core.plan.plan import Plan
from dacha.engine.network.boot_files import beneath
from dacha.engine.workspace import Workspace
from dacha.formats.answers.network_start import NETWORK_STARTS, NetworkStart, own_file


def folder(ws: Workspace, guest: str) -> Path:
    """The folder of the guest's generated files: its boot loader's menus, and its answers."""
    return ws.home.guest(guest) / "answers/network"


def network_of(lab: Lab, guest: Guest) -> Network | None:
    """The network that the guest is installed over: the first of its managed networks with boot files."""
    mine = (lab.networks[a.network] for a in guest.adapters if a.network in lab.networks)
    return next((n for n in mine if n.managed and n.boot), None)


def own_place(ws: Workspace, plan: Plan, network: str, client: str, asked: str) -> tuple[Path, str] | None:
    """Resolve a request for `asked` from `client` to (folder, file); None for a file that every guest may read."""
    own = own_file(asked)
    if own is None:
        return None
    found = (a.guest for a in plan.adapters.values() if a.network == network and str(a.address) == client)
    guest = ws.lab.guests.get(next(found, ""))
    if guest is None or not guest.by_network or ws.home.read(guest.name).installed == guest.install:
        return None
    where = folder(ws, guest.name)
    return (where, own) if where.is_dir() else None


def kernel_and_initrd(ws: Workspace, network: Network, start: NetworkStart) -> tuple[str, str] | None:
    """The installer's kernel and initrd in the network's folder; None if they are in none of the usual places."""
    top = ws.resolve(network.boot.files) if network.boot else None
    if top is None:
        return None
    return next(((k, i) for k, i in start.kernels if beneath(top, k) and beneath(top, i)), None)


def medium(ws: Workspace, network: Network) -> str | None:
    """The name of the medium in the network's folder, for installers that download all of it."""
    top = ws.resolve(network.boot.files) if network.boot else None
    return next((p.name for p in sorted(top.glob("*.iso")) if beneath(top, p.name)), None) if top else None


def why_not(ws: Workspace, guest: Guest) -> tuple[str, str] | None:
    """Why the guest's installer cannot be started over its network with its answers, and the remedy."""
    start = NETWORK_STARTS.get(guest.system)
    if start is None:
        known = " or ".join(f'system = "{name}"' for name in sorted(NETWORK_STARTS))
        return (
            f"network installation of {guest.system} is not supported",
            f"use one of: {known}; or install from a medium",
        )
    network = network_of(ws.lab, guest)
    if network is None or network.boot is None:
        return "none of its networks offers boot files", 'in [network.NAME]: boot = { files = "FOLDER" }'
    if any(a.network == network.name and a.dynamic for a in guest.adapters):
        why = f"its address on {network.name} is dynamic, so Dacha cannot identify the guest by it"
        return why, "remove the key address there, or set a fixed one"
    others = (g for g in ws.lab.guests.values() if g.name != guest.name)
    router = next((g.name for g in others for a in g.adapters if a.network == network.name and a.routes), None)
    if router:
        why = f"{router} is a router on {network.name}, and may use any address there: it could read the answers"
        return why, f"use a network without {router}, or install from a medium"
    if not kernel_and_initrd(ws, network, start):
        looked = ", ".join(kernel for kernel, _ in start.kernels)
        return (
            f"no kernel with its initrd exists in {network.boot.files}",
            f"add one of these, with its initrd: {looked}",
        )
    if start.needs_iso and not medium(ws, network):
        return f"its installer downloads a whole medium, but {network.boot.files} has none", "add its .iso there"
    if start.needs_mirror and not guest.setup.mirror:
        return "its installer requires a package mirror", 'setup = { mirror = "http://…" }'
    return None
