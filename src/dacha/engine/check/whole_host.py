"""This host as `host` shows it: resources, what the lab reserves, what is missing, and leftovers."""

from __future__ import annotations

import os
from ipaddress import IPv4Address
from pathlib import Path

from dacha.core.errors import DachaError
from dacha.core.findings import Finding
from dacha.core.lab.usb import HostDevice
from dacha.core.named import NamedTuple
from dacha.core.plan.check import HostFacts, check_host, promised
from dacha.engine.check.host import disk_growth, program_findings
from dacha.engine.guest.usb import seated
from dacha.engine.labs.kept_labs import Leftover, leftovers
from dacha.engine.network import gate
from dacha.engine.workspace import Workspace
from dacha.host import accounts, confine, facts, folders
from dacha.host.devices.usb import devices
from dacha.host.network import addresses
from dacha.hypervisor import accelerator


class UsbHere(NamedTuple):
    """A USB device of this host, and the guest of the lab that has it."""

    device: HostDevice
    guest: str | None


class WholeHost(NamedTuple):
    """`stores` are the folders that disks grow in, by name; `growth` is how much each may still grow (bytes);
    `promised` are CPUs, memory and disk (bytes) of the lab, None without one; `users` is the range that guests run as,
    None if they run as the user who starts them."""

    have: HostFacts
    choice: accelerator.Choice
    stores: dict[str, Path]
    growth: dict[str, int]
    promised: tuple[int, int, int] | None
    lan: IPv4Address | None
    users: tuple[int, int] | None
    protection: tuple[confine.Protection, ...]
    usb: list[UsbHere]
    leftovers: list[Leftover]
    findings: list[Finding]


def whole_host(ws: Workspace | None) -> WholeHost:
    """Examine everything; `ws` is the lab, if there is one."""
    stores = {"disks": ws.home.folder if ws else folders.state() / "labs", "demo": folders.cache()}
    stores |= {name: ws.resolve(path) for name, path in ws.lab.storages.items()} if ws else {}
    have = facts.facts(stores.values())
    try:
        choice = accelerator.choose(ws.lab.accelerator if ws else "auto")
    except DachaError as e:
        choice = accelerator.Choice("none", e.what)
    growth = {str(folder): size for folder, size in disk_growth(ws).items()} if ws else {}
    have = have._replace(disk_free=have.disk_free | facts.facts(Path(f) for f in growth).disk_free)
    return WholeHost(
        have=have,
        choice=choice,
        stores=stores,
        growth=growth,
        promised=promised(ws.lab) if ws else None,
        lan=addresses.lan_address(),
        users=accounts.users() if os.geteuid() == 0 else None,
        protection=(*confine.here(), gate.protection()),
        usb=_usb(ws),
        leftovers=leftovers(),
        findings=program_findings() + (check_host(ws.lab, have, growth) if ws else []),
    )


def _usb(ws: Workspace | None) -> list[UsbHere]:
    """The USB devices, without hubs."""
    has: dict[tuple[int, int], str] = {}
    for guest, seats in seated(ws).items() if ws else ():
        has |= {(s.found.bus, s.found.number): guest for s in seats if s.attached and s.found}
    return [UsbHere(d, has.get((d.bus, d.number))) for d in devices() if not d.hub]
