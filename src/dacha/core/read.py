"""From the text of `lab.toml` to a Lab, with every error found on the way."""

from __future__ import annotations

import re
import tomllib
from ipaddress import IPv4Address, IPv6Address
from typing import NamedTuple

from dacha.core import units, values
from dacha.core.findings import ERROR, Finding
from dacha.core.lab import (
    ACCELERATORS,
    BUSES,
    CARRIERS,
    FIRMWARES,
    KINDS,
    MODELS,
    ORIGINS,
    PROTOCOLS,
    SERVICES,
    SYSTEMS,
    Adapter,
    Boot,
    Disk,
    Door,
    Guest,
    Lab,
    Login,
    Network,
    Ports,
    Start,
)
from dacha.core.profile import PLAIN, Profile, Profiles
from dacha.core.table import Table

# One forward each: a wider range is a mistake more often than a wish, and opening it would take long.
RANGE_MOST = 256
_NO_ADDRESS: tuple[IPv4Address | None, int | None] = (None, None)
_NO_ADDRESS6: tuple[IPv6Address | None, int | None] = (None, None)


class Reading(NamedTuple):
    """What came of reading: the lab (None when the text is no TOML), its plain data, and the errors."""

    lab: Lab | None
    data: dict[str, object]
    findings: list[Finding]


def read_lab(text: str, profiles: Profiles | None = None) -> Reading:
    """Read the whole text; never stops at the first error. Raises nothing of its own.

    `profiles` fill what a guest leaves out, by its system; without them every system has the plain values.
    """
    findings: list[Finding] = []
    try:
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as e:
        place = re.search(r" \(at line (\d+), column (\d+)\)| \(at end of document\)", str(e))
        what = str(e).replace(place[0], "") if place else str(e) or "nested too deeply"
        line = int(place[1]) if place and place[1] else text.count("\n") + 1
        remedy = 'TOML wants text in quotes, one key a line: memory = "1 GiB"'
        return Reading(None, {}, [Finding(ERROR, "toml", "lab", f"this is not TOML: {what}", remedy, (), "lab", line)])
    root = Table(data, (), findings)
    lab = _lab(root, profiles if profiles is not None else dict.fromkeys(SYSTEMS, PLAIN))
    root.finish()
    return Reading(lab, data, findings)


def _lab(root: Table, profiles: Profiles) -> Lab:
    name, accelerator = "lab", "auto"
    head = root.table("lab")
    if head is None:
        root.wrong("", "missing", "the table [lab] is missing", 'begin with:\n[lab]\nname = "saltmarsh"')
    else:
        name = head.need("name", values.name, '"saltmarsh"') or "lab"
        accelerator = head.take("accelerator", values.choice(*ACCELERATORS), "auto")
        head.finish()
    networks = {n: _network(n, t) for n, t in root.tables("network")}
    guests = {n: _guest(n, t, profiles) for n, t in root.tables("guest")}
    storages = {n: _storage(n, t) for n, t in root.tables("storage")}
    return Lab(name=name, accelerator=accelerator, networks=networks, guests=guests, storages=storages)


def _storage(name: str, t: Table) -> str:
    _checked_name(t, name)
    path = t.need("path", values.text, '"/srv/dacha"') or ""
    t.finish()
    return path


def _checked_name(table: Table, name: str) -> None:
    try:
        values.name(name)
    except ValueError as e:
        table.wrong("", "name", e.args[0], e.args[1])


def _network(name: str, t: Table) -> Network:
    _checked_name(t, name)
    network = Network(
        name=name,
        kind=t.need("kind", values.choice(*KINDS), '"nat"') or "nat",
        carrier=t.take("carrier", values.choice(*CARRIERS), "auto"),
        interface=t.take("interface", values.text, None),
        vlan=t.take("vlan", values.whole(1, 4094), None),
        subnet=t.take("subnet", values.subnet4, None),
        gateway=t.take("gateway", values.address4, None),
        subnet6=t.take("subnet6", values.subnet6, None),
        gateway6=t.take("gateway6", values.address6, None),
        dynamic=t.take("dynamic", values.span4, None),
        name_servers=t.list_of("name-servers", values.address),
        isolated=t.take("isolated", values.flag, False),
    )
    t.finish()
    if network.kind == "bridge" and not network.interface and "interface" not in t.data:
        t.wrong("", "missing", "a bridge network needs the host's interface", 'add: interface = "br0"')
    if network.kind != "bridge":
        for key in ("interface", "vlan"):
            if key in t.data:
                t.wrong(
                    key, "misplaced", "only a bridge network has this", f"remove it, or kind = {chr(34)}bridge{chr(34)}"
                )
    return network


def _guest(name: str, t: Table, profiles: Profiles) -> Guest:
    _checked_name(t, name)
    system = t.take("system", values.choice(*sorted(profiles)), "linux")
    usual = profiles.get(system, PLAIN)
    guest = Guest(
        name=name,
        system=system,
        cpus=t.take("cpus", values.whole(1, 255), usual.cpus),
        memory=t.take("memory", units.memory, usual.memory),
        cpu=t.take("cpu", values.text, None),
        clock=t.take("clock", values.choice("utc", "local"), usual.clock),
        video=t.take("video", values.flag, usual.video),
        firmware=t.take("firmware", values.choice(*FIRMWARES), usual.firmware),
        boot=_boot(t.table("boot")),
        install=t.take("install", values.text, None),
        media=t.list_of("medium", values.text),
        disks=tuple(_disk(d, usual) for d in t.list_of_tables("disk")),
        adapters=tuple(_adapter(a, usual) for a in t.list_of_tables("adapter")),
        login=_login(t.table("login")),
        first_boot=t.take("first-boot", values.flag, True),
        doors=tuple(_door(name, n, d) for n, d in t.tables("door")),
        start=_start(t.table("start")),
        stop_after_s=t.take("stop-after", units.duration, 60.0),
    )
    t.finish()
    return guest


def _boot(t: Table | None) -> Boot | None:
    if t is None:
        return None
    kernel = t.need("kernel", values.text, '"vmlinuz"')
    boot = Boot(
        kernel=kernel or "vmlinuz",
        initrd=t.take("initrd", values.text, None),
        command_line=t.take("command-line", values.text, ""),
    )
    t.finish()
    return boot


def _disk(t: Table, usual: Profile) -> Disk:
    disk = Disk(
        base=t.take("from", values.text, None),
        size=t.take("size", units.disk_size, None),
        bus=t.take("bus", values.choice(*BUSES), usual.bus),
        full=t.take("allocation", values.choice("thin", "full"), "thin") == "full",
    )
    t.finish()
    if t.ok and disk.base is None and disk.size is None:
        t.wrong("", "missing", "a disk needs a size or an image to start from", 'add: size = "8 GiB" or from = "IMAGE"')
    return disk


def _adapter(t: Table, usual: Profile) -> Adapter:
    address, prefix = t.take("address", values.interface4, _NO_ADDRESS)
    address6, prefix6 = t.take("address6", values.interface6, _NO_ADDRESS6)
    adapter = Adapter(
        network=t.need("network", values.text, '"inside"') or "",
        address=address,
        prefix=prefix,
        address6=address6,
        prefix6=prefix6,
        hardware_address=t.take("hardware-address", values.hardware_address, None),
        model=t.take("model", values.choice(*MODELS), usual.model),
    )
    t.finish()
    return adapter


def _login(t: Table | None) -> Login | None:
    if t is None:
        return None
    login = Login(user=t.need("user", values.user, '"ops"') or "ops", keys=t.list_of("keys", values.text))
    t.finish()
    return login


def _start(t: Table | None) -> Start:
    if t is None:
        return Start()
    start = Start(
        at_boot=t.take("at-boot", values.flag, False),
        order=t.take("order", values.whole(0, 9999), 100),
        delay_s=t.take("delay", units.duration, 0.0),
    )
    t.finish()
    return start


def _door(guest: str, name: str, t: Table) -> Door:
    _checked_name(t, name)
    service = t.take("service", values.choice(*SERVICES), name if name in SERVICES else None)
    origin = t.need("from", values.choice(*ORIGINS), '"host"') or "host"
    to = t.take("to", values.ports, None)
    port = t.take("port", values.ports, None)
    if to is None:
        known = SERVICES.get(service or "")
        if known is None and "to" not in t.data:
            t.wrong(
                "",
                "missing",
                "which port of the guest is meant is not said",
                f"add: to = 8000, or service = one of {', '.join(SERVICES)}",
            )
        to = Ports(known or 1, known or 1)
    door = Door(
        guest=guest,
        name=name,
        service=service,
        origin=origin,
        to=to,
        port=port,
        protocol=t.take("protocol", values.choice(*PROTOCOLS), "tcp"),
        listen=t.take("listen", values.address4, None),
        allow=t.list_of("allow", values.source),
        network=t.take("network", values.text, None),
    )
    t.finish()
    if port and port.width != to.width:
        t.wrong(
            "port",
            "range",
            f"{port.width} ports of the host for {to.width} of the guest",
            f'make them equally many: port = "{port.first}-{port.first + to.width - 1}"',
        )
    if to.width > RANGE_MOST:
        t.wrong("to", "range", f"{to.width} ports are too many for one door", f"at most {RANGE_MOST}")
    if service in ("ssh", "rdp", "vnc", "http", "https") and door.protocol == "udp":
        t.wrong("protocol", "value", f"{service} is spoken over TCP", "remove protocol")
    return door
