"""From the text of `lab.toml` to a Lab, with every error found."""

from __future__ import annotations

import re
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

import tomli

from dacha.core import units
from dacha.core.errors import BadValue
from dacha.core.findings import ERROR, Finding
from dacha.core.lab import address_fields, fields
from dacha.core.lab.kinds import ACCELERATORS, BACKENDS, KINDS, ORIGINS, WAYS_OUT
from dacha.core.lab.model import SYSTEMS, Lab
from dacha.core.lab.network import Network, NetworkBoot, OtherMachine, Place
from dacha.core.lab.person import EVERYTHING, Person
from dacha.core.lab.setup import Setup
from dacha.core.lab.table.profile import PLAIN, Profiles
from dacha.core.lab.table.read_guest import read_guest
from dacha.core.lab.table.reader import Table, checked_name
from dacha.core.log.alert import AFTER_S, BELOW, EVENTS, Alert
from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from dacha.core.lab.kinds import Accelerator, Backend
    from dacha.core.lab.measuring import Measuring


class Reading(NamedTuple):
    """The result of reading: the lab (None if the text is not valid TOML), its plain data, and the errors."""

    lab: Lab | None
    data: dict[str, object]
    findings: list[Finding]


def read_lab(text: str, profiles: Profiles | None = None) -> Reading:
    """Read the whole text and collect every error. Raises nothing of its own. `profiles` provide defaults by system;
    without them all systems have plain defaults."""
    findings: list[Finding] = []
    try:
        data = tomli.loads(text)
    except (ValueError, RecursionError) as e:
        return Reading(None, {}, [_not_toml(text, e)])
    root = Table(data, (), findings)
    lab = _lab(root, profiles if profiles is not None else dict.fromkeys(SYSTEMS, PLAIN))
    root.finish()
    return Reading(lab, data, findings)


def _not_toml(text: str, error: Exception) -> Finding:
    """The error that makes the text invalid TOML, with its line."""
    place = re.search(r" \(at line (\d+), column (\d+)\)| \(at end of document\)", str(error))
    what = str(error).replace(place[0], "") if place else str(error) or "nesting is too deep"
    line = int(place[1]) if place and place[1] else text.count("\n") + 1
    # Python refuses to read numbers of more than 4300 digits, and does not give their position.
    endless = None if isinstance(error, tomli.TOMLDecodeError) else re.search(r"[0-9_]{4301}", text)
    if endless:
        what, line = "a number is too long", text.count("\n", 0, endless.start()) + 1
    remedy = 'in TOML, text stands in quotes, and each key has a line of its own: memory = "1 GiB"'
    return Finding(ERROR, "toml", "lab", f"invalid TOML: {what}", remedy, (), "lab", line)


def _lab(root: Table, profiles: Profiles) -> Lab:
    name, router, open_firewall, lan_names = "lab", None, False, False
    accelerator: Accelerator = "auto"
    head = root.table("lab")
    if head is None:
        root.wrong("", "missing", "the table [lab] is missing", 'start the file with:\n[lab]\nname = "saltmarsh"')
    else:
        name = head.need("name", fields.name, '"saltmarsh"') or "lab"
        accelerator = head.take("accelerator", fields.choice(*ACCELERATORS), "auto")
        router = head.take("router", address_fields.address4_or_none, None)
        open_firewall = head.take("open-firewall", fields.flag, False)
        lan_names = head.take("lan-names", fields.flag, False)
        head.finish()
    networks = {n: _network(n, t) for n, t in root.tables("network")}
    setups = {n: _setup(n, t) for n, t in root.tables("setup")}
    guests = {n: read_guest(n, t, profiles, setups) for n, t in root.tables("guest")}
    storages = {n: _storage(n, t) for n, t in root.tables("storage")}
    people = {n: _person(n, t) for n, t in root.tables("person")}
    places = {n: _place(n, t) for n, t in root.tables("place")}
    alerts = _alerts(root)
    usage = _usage(root.table("usage"))
    return Lab(
        name=name,
        accelerator=accelerator,
        router=router,
        networks=networks,
        guests=guests,
        storages=storages,
        people=people,
        open_firewall=open_firewall,
        lan_names=lan_names,
        places=places,
        alerts=alerts,
        usage=usage,
    )


def _setup(name: str, t: Table) -> Setup:
    checked_name(t, name)
    from dacha.core.lab.table.read_setup import read_setup

    return read_setup(t)


def _network_boot(t: Table | None) -> NetworkBoot | None:
    if t is None:
        return None
    boot = NetworkBoot(
        files=t.need("files", fields.text, '"netboot"') or "",
        bios=t.take("bios", fields.text, None),
        uefi=t.take("uefi", fields.text, None),
        http=t.take("http", fields.flag, False),
    )
    t.finish()
    return boot


def _machine(name: str, t: Table) -> OtherMachine:
    checked_name(t, name)
    machine = OtherMachine(
        name=name,
        hardware_address=t.need("hardware-address", address_fields.hardware_address, '"02:00:00:77:04:60"') or "",
        address=t.need("address", address_fields.address4, '"10.77.4.60"') or IPv4Address(0),
    )
    t.finish()
    return machine


def _person(name: str, t: Table) -> Person:
    checked_name(t, name)
    everything = t.data.get("enters") == EVERYTHING
    person = Person(
        name=name,
        keys=t.list_of("keys", fields.text),
        enters=t.list_of("enters", fields.entry) if not everything else (),
        everything=everything,
        origin=t.take("from", fields.choice(*ORIGINS), "lan"),
        user=t.take("user", fields.user, None),
    )
    t.take("enters", lambda value: value, None)
    t.finish()
    return person


def _place(name: str, t: Table) -> Place:
    checked_name(t, name)
    place = Place(
        name=name,
        router=t.need("router", address_fields.hardware_address, '"02:00:00:77:04:01"') or "",
        subnet=t.take("subnet", address_fields.subnet4, None),
    )
    t.finish()
    return place


def _storage(name: str, t: Table) -> str:
    checked_name(t, name)
    path = t.need("path", fields.text, '"/srv/dacha"') or ""
    t.finish()
    return path


def _network(name: str, t: Table) -> Network:
    checked_name(t, name)
    if name in ORIGINS:
        what = f"a network must not be named {name}, which stands for a place in `from`"
        t.wrong("", "name", what, f"choose a name for its purpose, such as [network.{name}-bridge]")
    # The former name of this key, still accepted.
    before: Backend = t.take("carrier", fields.choice(*BACKENDS), "auto")
    network = Network(
        name=name,
        kind=t.need("kind", fields.choice(*KINDS), '"nat"') or "nat",
        backend=t.take("backend", fields.choice(*BACKENDS), before),
        interface=t.take("interface", fields.text, None),
        made_from=t.take("made-from", fields.text, None),
        vlan=t.take("vlan", fields.whole(1, 4094), None),
        subnet=t.take("subnet", address_fields.subnet4, None),
        gateway=t.take("gateway", address_fields.address4, None),
        subnet6=t.take("subnet6", address_fields.subnet6, None),
        gateway6=t.take("gateway6", address_fields.address6, None),
        dynamic=t.take("dynamic", address_fields.span4, None),
        name_servers=t.list_of("name-servers", address_fields.address),
        isolated=t.take("isolated", fields.flag, False),
        to_host=t.list_of("to-host", fields.host_ports),
        way_out=t.take("way-out", fields.choice(*WAYS_OUT), "anywhere"),
        boot=_network_boot(t.table("boot")),
        machines=tuple(_machine(n, m) for n, m in t.tables("machine")),
    )
    t.finish()
    if network.kind == "bridge" and not network.interface and "interface" not in t.data:
        t.wrong("", "missing", "a bridge network requires the key interface", 'add: interface = "br0"')
    for key, fits, where in (
        ("to-host", network.managed or network.kind == "nat", "a NAT network, or a host-only one on the kernel,"),
        ("way-out", network.kind == "nat", "a NAT network"),
    ):
        if key in t.data and not fits:
            kernel = ', or backend = "kernel"' if (key, network.kind) == ("to-host", "host-only") else ""
            remedy = f"remove it{kernel or ', or another kind'}"
            t.wrong(key, "misplaced", f"only {where} supports this", remedy)
    if network.kind == "bridge" and network.boot:
        remedy = "remove it: on a LAN, its own DHCP server announces what to boot from"
        t.wrong("boot", "misplaced", "Dacha runs no DHCP server on a bridged LAN", remedy)
    if network.machines and not network.managed:
        bridge = "remove it: the LAN's own DHCP server assigns addresses to its machines"
        remedy = bridge if network.kind == "bridge" else 'add: backend = "kernel"'
        t.wrong("machine", "misplaced", "other machines are supported on kernel networks only", remedy)
    if network.kind != "bridge":
        for key in ("interface", "made-from", "vlan"):
            if key in t.data:
                t.wrong(
                    key,
                    "misplaced",
                    "this key is for bridge networks only",
                    f"remove it, or kind = {chr(34)}bridge{chr(34)}",
                )
    return network


def _usage(t: Table | None) -> Measuring | None:
    if t is None:
        return None
    from dacha.core.lab.table.read_usage import read_usage

    return read_usage(t)


def _alerts(root: Table) -> dict[str, Alert]:
    """The alerts of the lab file, by their events."""
    found: dict[str, Alert] = {}
    for name, t in root.tables("on"):
        event = next((e for e in EVENTS if e == name), None)
        if event is None:
            from dacha.core.spelling import did_you_mean

            t.wrong(
                "", "name", f"there is no event {name}", did_you_mean(name, EVENTS, f"use one of: {', '.join(EVENTS)}")
            )
            continue
        run = t.need("run", _words, '"/usr/local/bin/notify-me"')
        after_s = t.take("after", units.duration, AFTER_S)
        below = t.take("below", fields.whole(1, 99), BELOW)
        for key, where in (("after", "door-closed"), ("below", "storage-low")):
            if key in t.data and event != where:
                t.wrong(key, "misplaced", f"this key belongs to [on.{where}] only", "remove it")
        t.finish()
        found[event] = Alert(event, run or ("true",), after_s, below)
    return found


def _words(value: object) -> tuple[str, ...]:
    """A command with its arguments: a list of words, or one text that is split into words as a shell does."""
    words: object = value
    if isinstance(value, str):
        import shlex

        try:
            words = shlex.split(value)
        except ValueError as e:
            raise BadValue(f"{value!r} is not a command: {str(e).lower()}", "close its quotes") from None
    if not isinstance(words, list) or not words:
        raise BadValue(f"{value!r} is not a command", 'write "PROGRAM ARGUMENT …", or a list of words')
    return tuple(fields.text(word) for word in words)
