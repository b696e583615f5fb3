"""Desired against observed: the ordered changes that make the host match the lab."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from dacha.core.apply.changes import (
    AttachDisk,
    Change,
    ChangeAddress,
    ChangeInside,
    ChangeKeys,
    ChangeMachine,
    ChangeMedium,
    CloseForward,
    DeleteDisk,
    DetachDisk,
    GrowDisk,
    MakeDisk,
    MakeHostKey,
    MoveScreen,
    OpenForward,
    StartGuest,
    StopGuest,
    WriteDown,
    WriteSeed,
)
from dacha.core.apply.in_force import in_force
from dacha.core.apply.machine import Machine, MachineDisk
from dacha.core.apply.machine_changes import changed, moved, moves, same_first_boot
from dacha.core.apply.observed import ON, SAVED, ObservedGuest
from dacha.core.inside.setup_items import item_change
from dacha.core.lab.buses import BUSES
from dacha.core.lab.model import Guest, Lab
from dacha.core.people.keys_inside import WantedKeys, key_changes
from dacha.core.plan.plan import Plan

NO_KEYS: Mapping[str, WantedKeys] = MappingProxyType({})
NO_SETUPS: Mapping[str, Mapping[str, str]] = MappingProxyType({})


def difference(
    lab: Lab,
    plan: Plan,
    machines: Mapping[str, Machine],
    observed: Mapping[str, ObservedGuest],
    keys: Mapping[str, WantedKeys] = NO_KEYS,
    setups: Mapping[str, Mapping[str, str]] = NO_SETUPS,
) -> list[Change]:
    """The changes that `apply` would make, in their order; empty if everything is applied. `keys` are the accounts and
    keys that guests should have, `setups` the digests of the things that should be in them, by name; guests that are
    not listed keep theirs."""
    changes: list[Change] = [WriteDown(path, text) for path, text in plan.chosen.items()]
    changes += [StopGuest(name) for name, seen in observed.items() if name not in lab.guests and seen.running]
    for name, seen in observed.items():
        if name not in lab.guests:
            changes += [DeleteDisk(name, disk, size) for disk, size in sorted(seen.disks) if disk in seen.deleting]
    starts: list[tuple[int, int, Change]] = []
    for n, guest in enumerate(lab.guests.values()):
        seen = observed.get(guest.name, ObservedGuest())
        changes += _prepare(guest, machines[guest.name], seen)
        if seen.running:
            changes += _adjust(lab, guest, plan, machines[guest.name], seen)
            changes += rekey(guest.name, machines[guest.name], seen, keys.get(guest.name))
            changes += resetup(guest, seen, setups.get(guest.name))
        elif not seen.stopped_on_purpose:
            saved = seen.state == SAVED
            starts.append((guest.start.order, n, StartGuest(guest.name, saved)))
            if saved:
                changes += _after_saved(guest, machines[guest.name], seen)
            if seen.inside is not None:
                changes += resetup(guest, seen, setups.get(guest.name), starting=True)
    return changes + [start for _, _, start in sorted(starts, key=lambda s: s[:2])]


def _prepare(guest: Guest, wanted: Machine, seen: ObservedGuest) -> list[Change]:
    changes: list[Change] = []
    if not seen.host_key:
        changes.append(MakeHostKey(guest.name))
    for disk in guest.disks:
        size = dict(seen.disks).get(disk.name)
        if size is not None and disk.size is not None and disk.size > size and seen.state != SAVED:
            changes.append(GrowDisk(guest.name, disk.name, disk.size))
        if size is None:
            changes.append(MakeDisk(guest.name, disk))
    # A running guest has its seed open, also if it is saved: its next start writes it again.
    if wanted["seed"] and wanted["seed"] != seen.seed and not seen.running and seen.state != SAVED:
        changes.append(WriteSeed(guest.name, wanted["seed"]))
    return changes


def _after_saved(guest: Guest, wanted: Machine, seen: ObservedGuest) -> list[ChangeMachine]:
    """What a saved guest gets at its next start after it has continued: it continues as the machine that was saved."""
    if seen.machine is None:
        return []
    lines = changed(seen.machine, wanted)
    before, after = ([d["name"] for d in m["disks"]] for m in (seen.machine, wanted))
    if before != after:
        lines.append(("disks", f"disks {', '.join(before) or 'none'} → {', '.join(after) or 'none'}"))
    return [ChangeMachine(guest.name, line, key) for key, line in lines]


def rekey(guest: str, wanted: Machine | None, seen: ObservedGuest, keys: WantedKeys | None) -> list[Change]:
    """The change of keys in a running guest, if any. `wanted` is the machine as it should be, None if it is
    unchanged."""
    if keys is None or not seen.running or seen.installing is not None:
        return []
    had = seen.machine or wanted
    told = wanted is None or had is None or same_first_boot(had, wanted)
    changed_keys = key_changes(seen.keyed, seen.own_accounts, keys, told=told, unsure=seen.unsure or {})
    return [ChangeKeys(guest, tuple(changed_keys))] if changed_keys else []


def resetup(
    guest: Guest, seen: ObservedGuest, wanted: Mapping[str, str] | None, *, starting: bool = False
) -> list[Change]:
    """The change inside a guest that runs or is `starting`, if any: `wanted` are the things that should be in it. A
    guest of which nothing is known is left to its next start if its first-boot data can tell it, and taken as one
    without any else."""
    if wanted is None or not (seen.running or starting) or seen.installing is not None:
        return []
    had = seen.inside
    if had is None:
        if guest.first_boot and not (seen.machine and seen.machine.get("seed_without_setup")):
            return []
        had = {}
    change = item_change(had, wanted)
    return [ChangeInside(guest.name, change)] if any(change) else []


def reforward(lab: Lab, guest: Guest, plan: Plan, seen: ObservedGuest) -> list[CloseForward | OpenForward]:
    """The forwards to close in a running guest's QEMU, then those to open."""
    if seen.forwards is None:
        return []
    # A forward must lead to the address that the running guest was given, not to a newly planned one.
    held = in_force(lab, plan, {guest.name: seen.machine}) if seen.machine else plan
    desired = held.forwards_of(guest.name, [d.name for d in guest.doors])
    closed = [CloseForward(guest.name, f) for f in sorted(seen.forwards - desired.keys())]
    return [*closed, *(OpenForward(guest.name, name, f) for f, name in desired.items() if f not in seen.forwards)]


def _adjust(lab: Lab, guest: Guest, plan: Plan, wanted: Machine, seen: ObservedGuest) -> list[Change]:
    changes: list[Change] = list(reforward(lab, guest, plan, seen))
    if seen.machine is not None:
        had = seen.machine["drives"]
        if len(had) == len(wanted["drives"]):
            pairs = zip(had, wanted["drives"], strict=True)
            changes += [ChangeMedium(guest.name, n, new) for n, (old, new) in enumerate(pairs) if old != new]
        changes += _adjust_disks(guest.name, seen.machine["disks"], wanted["disks"])
        screen = wanted["screen"] or {"from": None, "port": None}
        if seen.machine["screen"] != wanted["screen"] and wanted["video"] and seen.machine["video"]:
            changes.append(MoveScreen(guest.name, screen["from"], screen["port"]))
        found = moves(seen.machine, wanted) if addresses_change(guest, seen) else []
        if found:
            changes.append(ChangeAddress(guest.name, tuple(found)))
        after = moved(seen.machine, wanted, found)
        changes += [ChangeMachine(guest.name, line, key) for key, line in changed(after, wanted)]
    if seen.tpm_lost:
        changes.append(ChangeMachine(guest.name, "its TPM again: the program that emulates it has exited", "tpm"))
    if seen.gate_lost:
        changes.append(ChangeMachine(guest.name, "outgoing connections again: its gate process has exited", "gate"))
    return changes


def addresses_change(guest: Guest, seen: ObservedGuest) -> bool:
    """True if the addresses of this guest may be changed while it runs."""
    return seen.state == ON and seen.installing is None and guest.system != "windows"


def _adjust_disks(guest: str, had: list[MachineDisk], wanted: list[MachineDisk]) -> list[Change]:
    """Attach and detach disks: live if their bus supports it, else at the next start."""
    before = {d["name"]: d["bus"] for d in had}
    after = {d["name"]: d["bus"] for d in wanted}
    changes: list[Change] = []
    for n, (name, bus) in enumerate(before.items()):
        if name not in after:
            live = BUSES[bus].detaches_live(n)
            changes.append(DetachDisk(guest, name) if live else ChangeMachine(guest, f"detach disk {name}", "disks"))
        elif after[name] != bus:
            changes.append(ChangeMachine(guest, f"disk {name}: bus {bus} → {after[name]}", "disks"))
    for name, bus in after.items():
        if name not in before:
            live = BUSES[bus].attaches_live(set(before.values()))
            changes.append(
                AttachDisk(guest, name, bus) if live else ChangeMachine(guest, f"attach disk {name}", "disks")
            )
    if not changes and list(before) != list(after):
        changes.append(ChangeMachine(guest, f"order of disks: {', '.join(after)}", "disks"))
    return changes
