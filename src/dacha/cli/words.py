"""Parts of the lab in words, as the editing commands print them."""

from __future__ import annotations

import argparse
from collections.abc import Iterable
from typing import Any

from dacha.core.apply.changes import Change
from dacha.core.lab.kinds import ORIGIN_WORDS
from dacha.core.lab.model import Guest
from dacha.core.lab.person import Person
from dacha.core.plan.doors import DoorPlan
from dacha.core.units import exact_size, show_size
from dacha.engine.workspace import Workspace


def guest_words(guest: Guest) -> str:
    """debian, 2 CPUs, 1 GiB, disk 8 GiB on debian-12.qcow2"""
    parts = [guest.system, f"{guest.cpus} CPU" + ("s" if guest.cpus > 1 else ""), show_size(guest.memory)]
    for disk in guest.disks:
        size = f"disk {exact_size(disk.size)}" if disk.size else "disk"
        image = f"{', a copy of' if disk.copy else ' on'} {disk.base}" if disk.base else ""
        parts.append(size + image + (f" in {disk.storage}" if disk.storage else ""))
    parts += [word for word, on in (("TPM", guest.tpm), ("Secure Boot", guest.secure_boot)) if on]
    parts += [f"USB {usb}" for usb in guest.usb]
    if guest.boot:
        parts.append(f"boots {guest.boot.kernel.rpartition('/')[2]}")
    return ", ".join(parts)


def person_words(person: Person) -> str:
    """enters gauge, charts rdp from the LAN, as mara, 1 key"""
    enters = "all guests" if person.everything else ", ".join(map(str, person.enters)) or "no guest yet"
    keys = f"{len(person.keys) or 'no'} key{'' if len(person.keys) == 1 else 's'}"
    own = f", as {person.user}" if person.user else ""
    return f"enters {enters} from {ORIGIN_WORDS[person.origin]}{own}, {keys}"


def network_words(ws: Workspace, name: str) -> str:
    """NAT, 10.77.4.0/24, isolated"""
    net, plan = ws.lab.networks[name], ws.plan.networks[name]
    parts = [{"nat": "NAT", "host-only": "host-only", "bridge": f"bridge on {net.interface}"}[net.kind]]
    parts += [str(s) for s in (plan.subnet, plan.subnet6) if s]
    parts += [word for word, on in (("on the kernel", net.managed), ("isolated", net.isolated)) if on]
    parts += [f"VLAN {net.vlan}"] if net.vlan is not None else []
    parts += [f"name servers {', '.join(map(str, net.name_servers))}"] if net.name_servers else []
    parts += ["way out to the internet only"] if net.way_out == "internet" else []
    parts += [f"services of this host: {', '.join(map(str, net.to_host))}"] if net.to_host else []
    return ", ".join(parts)


def door_words(plan: DoorPlan) -> str:
    """any machine on the LAN → this host, port 2210 → gauge, port 22"""
    from dacha.core.lab.address_fields import show_source

    door = plan.door
    who = {"lan": "any machine on the LAN", "outside": "anybody outside"}.get(door.origin, "this host")
    who += " → the router" if door.origin == "outside" else ""
    who += f", port {door.outside_port}" if door.outside_port else ""
    limits = f", allows only {', '.join(map(show_source, door.allow))}" if door.allow else ""
    limits += "" if door.always else ", not always on"
    limits += f", at {' and '.join(door.places)} only" if door.places else ""
    limits += " (closed to the LAN at this place)" if door.away else ""
    kind = "" if door.protocol == "tcp" else f" ({door.protocol.upper()})"
    word = "ports" if door.to.width > 1 else "port"
    if plan.means == "forward":
        at = "this host" if door.from_lan else str(plan.listen)
        return f"{who} → {at}, {word} {plan.port} → {door.guest}, {word} {door.to}{kind}{limits}"
    if plan.means == "own":
        return f"{who} → {door.guest}'s own address, {word} {door.to}{kind}{limits}"
    return f"no path: {door.guest} is not reachable this way"


def guest_json(ws: Workspace, guest: Guest) -> dict[str, Any]:
    """A guest as `guest list` and `guest show` give it to scripts."""
    from dacha.core.lab.names import host_name, machine_uuid

    return {
        "name": guest.name,
        "host_name": host_name(ws.lab.name, guest.name),
        "uuid": machine_uuid(ws.lab.name, guest.name),
        "system": guest.system,
        "cpus": guest.cpus,
        "memory_bytes": guest.memory,
        "clock": guest.clock,
        "video": guest.video,
        "resolution": dict(zip(("width", "height"), guest.resolution, strict=True)) if guest.resolution else None,
        "screen": {"from": guest.screen.origin, "port": guest.screen.port} if guest.screen else None,
        "firmware": guest.firmware,
        "secure_boot": guest.secure_boot,
        "tpm": guest.tpm,
        "boot_order": list(guest.boot_order),
        "boot": None
        if guest.boot is None
        else {"kernel": guest.boot.kernel, "initrd": guest.boot.initrd, "command_line": guest.boot.command_line},
        "disks": [
            {
                "name": d.name,
                "from": d.base,
                "copy": d.copy,
                "storage": d.storage,
                "passphrase": d.passphrase,
                "size_bytes": d.size,
                "bus": d.bus,
                "allocation": "full" if d.full else "thin",
                "file": str(ws.home.disk(guest.name, d.name).resolve()),
            }
            for d in guest.disks
        ],
        "adapters": [
            {
                "network": a.network,
                "address": str(a.address) if a.address else None,
                "address6": str(a.address6) if a.address6 else None,
                "hardware_address": a.hardware_address,
                "model": a.model,
            }
            for a in ws.plan.adapters_of(guest.name)
        ],
        "login": {"user": guest.login.user, "keys": list(guest.login.keys)} if guest.login else None,
        "start": {
            "at_boot": guest.start.at_boot,
            "order": guest.start.order,
            "delay_s": guest.start.delay_s,
            "ready_s": guest.start.ready_s,
            "when_host_stops": "save" if guest.start.save else "stop",
        },
        "archive": _archive_json(ws, guest),
        "restart": guest.restart,
        "usb": [u._asdict() for u in guest.usb],
        "machine_type": guest.machine_type or ws.home.read(guest.name).machine_type,
        "doors": [door_json(ws, d.name, guest.name) for d in guest.doors],
    }


def _archive_json(ws: Workspace, guest: Guest) -> dict[str, Any] | None:
    if guest.archive is None:
        return None
    return {
        "folder": str(ws.resolve(guest.archive.folder)), "every_s": guest.archive.every_s, "at_s": guest.archive.at_s,
        "keep": guest.archive.keep, "whole_every": guest.archive.whole_every,
    }  # fmt: skip


def door_json(ws: Workspace, name: str, guest: str) -> dict[str, Any]:
    plan = ws.plan.doors[guest, name]
    door = plan.door
    return {
        "guest": guest,
        "name": name,
        "service": door.service,
        "protocol": door.protocol,
        "from": door.origin,
        "means": plan.means,
        "listen": str(plan.listen),
        "port": plan.port.first if plan.port else None,
        "last_port": plan.port.last if plan.port else None,
        "outside_port": door.outside_port,
        "to": door.to.first,
        "last_to": door.to.last,
        "allow": [str(a) for a in door.allow],
        "always": door.always,
    }


def network_json(ws: Workspace, name: str) -> dict[str, Any]:
    net, plan = ws.lab.networks[name], ws.plan.networks[name]
    return {
        "name": name,
        "kind": net.kind,
        "backend": net.backend,
        "interface": net.interface,
        "subnet": str(plan.subnet) if plan.subnet else None,
        "gateway": str(plan.gateway) if plan.gateway else None,
        "resolver": str(plan.resolver) if plan.resolver else None,
        "subnet6": str(plan.subnet6) if plan.subnet6 else None,
        "gateway6": str(plan.gateway6) if plan.gateway6 else None,
        "dynamic": "-".join(str(a) for a in net.dynamic) if net.dynamic else None,
        "isolated": net.isolated,
        "way_out": net.way_out,
        "to_host": [str(allowed) for allowed in net.to_host],
        "machines": [
            {"name": m.name, "address": str(m.address), "hardware_address": m.hardware_address} for m in net.machines
        ],
        "guests": sorted({a.guest for a in ws.plan.adapters.values() if a.network == name}),
    }


def contents_words(guest: str, *, frozen: bool) -> str:
    """What is in a disk that was copied while its guest ran."""
    how = "its file systems were frozen" if frozen else "as after a power cut, as no guest agent responds"
    return f"of {guest} while it ran: {how}"


def closed_here(ws: Workspace) -> str:
    """What is closed to the LAN at this place, and why, in a sentence; "" if nothing is."""
    if not ws.written.places:
        return ""
    from dacha.core.plan.places import closed_doors

    closed = closed_doors(ws.lab)
    if not closed:
        return ""
    names = ", ".join(f"{d.guest} {d.name}" for d in closed)
    where = "this host has no default route" if ws.here is None else f"the place is unknown ({ws.here})"
    if ws.place:
        where = f"the place is {ws.place}"
    return f"closed to the LAN here, {where}: {names}"


def here_json(ws: Workspace) -> dict[str, Any]:
    """The place of this host and the doors that are closed to the LAN there; nothing for a lab without places."""
    from dacha.core.plan.places import closed_doors

    if not ws.written.places:
        return {}
    closed = [{"guest": d.guest, "door": d.name} for d in closed_doors(ws.lab)]
    return {"at": {"place": ws.place, "router": ws.here.hardware_address if ws.here else None, "closed": closed}}


def change_json(change: Change) -> dict[str, Any]:
    """A change as diff, status and apply give it to scripts."""
    from dacha.core.apply.changes.change import kind_of, when_of

    told = getattr(change, "told", ())
    said = {"change": kind_of(change), "guest": change.guest, "when": when_of(change), "what": str(change)}
    return said | ({"told": list(told)} if told else {})


def waiting_words(changes: Iterable[Any]) -> str:
    """How many changes wait for a guest's next start, and the command that ends the wait."""
    from dacha.cli.terminal.output import plural

    guests = [str(c.guest) for c in changes]
    wait = "waits" if len(guests) == 1 else "wait"
    names = " ".join(dict.fromkeys(guests))
    return f"{plural(len(guests), 'change')} {wait} for a guest's next start: dacha restart {names}"


def lab_or_applied(args: argparse.Namespace) -> Workspace:
    """The lab, for a command about running guests: if the file has errors, the last applied version is used, with a
    note."""
    from dacha.cli.terminal.output import note
    from dacha.engine.workspace import load_or_applied

    ws, word = load_or_applied(args.lab)
    if word:
        note(word)
    note_other_file(ws)
    return ws


def note_other_file(ws: Workspace) -> None:
    """Note that the lab's guests belong to another file of its name: changing commands refuse this one."""
    from dacha.cli.terminal.output import note

    if other := ws.other_file():
        note(f"warning: the lab {ws.lab.name} was applied from {other}, another file: its guests belong to that file")
    if former := ws.former_name():
        note(f"warning: this file described the lab {former}: dacha lab rename {former} {ws.lab.name}")
