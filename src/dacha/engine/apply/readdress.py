"""Change addresses of running guests, with a way back.

`begin` lets a guest have both addresses, and the record says the new one, so that doors, rules, names and leases follow
it. `finish` removes the old address once the guest was reached; otherwise everything is as it was before, also if the
command is killed in between: then the guest takes it back by itself, and the next apply finds that out.
"""

from __future__ import annotations

import os
import time
from collections.abc import Collection, Iterator, Mapping
from ipaddress import ip_address
from typing import Any

from dacha.core.apply.changes import Change, ChangeAddress, ChangeMachine
from dacha.core.apply.difference import addresses_change
from dacha.core.apply.first_boot import digest, without_keys, without_setup
from dacha.core.apply.in_force import in_force
from dacha.core.apply.machine import Machine
from dacha.core.apply.machine_changes import SEEDS, moved, moves
from dacha.core.apply.observed import ObservedGuest
from dacha.core.errors import AnswerNo, DachaError
from dacha.core.inside import readdress as script
from dacha.core.inside.readdress import Answers, Move, read_answers
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import DoorPlan
from dacha.engine.console import first_boot
from dacha.engine.guest.first_boot import first_boot_facts
from dacha.engine.inside.run import run_inside
from dacha.engine.record import Record
from dacha.engine.workspace import Workspace
from dacha.host.network import addresses
from dacha.host.probe.probing import door_targets, probe_all

# When a guest takes its new addresses back unless they are confirmed (seconds): rules and disks may take a while.
BACK_S = 300
# A door that was open before is waited for at the new address, in rounds of so many seconds, with
# pauses between them: it may be refused at once.
DOOR_S, ROUND_S, PAUSE_S = 30.0, 5.0, 0.5
# How long a guest is waited for that a killed command left (seconds): it may not be reachable.
LEFT_S = 60.0
_WHY = {
    "denied": "the login user does not become root without a password",
    "gone": "the guest went back to its former address",
}


class Begun(NamedTuple):
    """Guests that have both addresses now, and their doors that were open; why others keep theirs until their next
    start, by name."""

    guests: dict[str, tuple[list[Move], frozenset[str]]]
    left: dict[str, str]


NONE_BEGUN = Begun({}, {})


def begin(
    ws: Workspace, machines: Mapping[str, Machine], seen: Mapping[str, ObservedGuest], names: Collection[str]
) -> Begun:
    """Let these guests have their new addresses beside the old ones, as far as only addresses differ."""
    begun = Begun({}, {})
    for name in names:
        had = seen[name].machine
        if had is None or not addresses_change(ws.lab.guests[name], seen[name]):
            continue
        if found := moves(had, machines[name]):
            opened = _open_doors(ws, name)
            if why := _begin(ws, name, found, machines[name]):
                begun.left[name] = why
            else:
                begun.guests[name] = found, opened
    return begun


def _begin(ws: Workspace, name: str, found: list[Move], wanted: Machine) -> str:
    """Why the guest keeps its addresses; "" if it has the new ones, too."""
    if ws.lab.guests[name].first_boot and first_boot(ws.home, name).state == "running":
        return "its first boot still runs"
    identifier = os.urandom(6).hex()
    record = ws.home.read(name)
    if record.machine is None:
        return "its process is not known"
    # Recorded first: a command that is killed now leaves a guest with two addresses.
    record.moving = {
        "id": identifier, "process": _process(record), "begun": False,
        "moves": [[m.hardware_address, str(m.before), str(m.after), m.prefix] for m in found],
        "seeds": {k: record.machine.get(k) for k in SEEDS},
    }  # fmt: skip
    ws.home.write(name, record)
    answers = _asked(ws, name, script.begin(identifier, found, BACK_S))
    if answers.state == "begun":
        # Its answers are a guest's: only addresses that were asked about are taken from them.
        unwritten = [str(m.before) for m in found if str(m.before) in answers.unwritten]
        record.moving |= {"begun": True, "unwritten": unwritten}
        record.machine = moved(record.machine, wanted, found)
    else:
        record.moving = None
    ws.home.write(name, record)
    return "" if answers.state == "begun" else _WHY.get(answers.state, answers.why)


def _process(record: Record) -> Any:
    return list(record.process) if record.process else None


def _moves(moving: Mapping[str, Any]) -> list[Move]:
    return [Move(h, ip_address(b), ip_address(a), int(p)) for h, b, a, p in moving.get("moves", ())]


def _confirm(moving: Mapping[str, Any]) -> str:
    return script.confirm(str(moving.get("id")), _moves(moving))


def _asked(ws: Workspace, name: str, text: str, limit_s: float | None = None) -> Answers:
    """A script's answers; a guest that does not run it has failed for that reason."""
    try:
        how, out = run_inside(ws, name, text, limit_s)
    except DachaError as e:
        return Answers("failed", e.why or e.what)
    return read_answers(out) or Answers("failed", f"{how}: its answer was not complete")


def finish(ws: Workspace, begun: Begun) -> Iterator[tuple[ChangeAddress, DachaError | None, float]]:
    """Confirm the new addresses of guests that answer at them, and take back the others: each change with its error and
    the time it took (seconds)."""
    for name, (made, opened) in begun.guests.items():
        began = time.monotonic()
        why, told = _finish(ws, name, opened)
        change = ChangeAddress(name, tuple(made), told)
        remedy = f"dacha restart {name}, which starts it with the new one"
        if not ws.lab.guests[name].first_boot:
            remedy = (
                f"change it in the guest, or write the former one: dacha guest edit {name} --address {made[0].before}"
            )
        what = f"{name} keeps its former address: {change.done()} did not work"
        error = AnswerNo(what, why=why, remedy=remedy) if why else None
        yield change, error, time.monotonic() - began


def _finish(ws: Workspace, name: str, opened: frozenset[str]) -> tuple[str, tuple[str, ...]]:
    """Why a guest went back to its former addresses ("" if it did not), and further findings."""
    moving = ws.home.read(name).moving or {}
    if silent := _silent(ws, name, opened):
        _back(ws, name, to_ask=True)
        return f"door {silent} does not answer at the new address", ()
    answers = _asked(ws, name, _confirm(moving))
    if answers.state != "confirmed":
        _back(ws, name)
        return _WHY.get(answers.state, answers.why), ()
    _keep(ws, name)
    unwritten = moving.get("unwritten", [])
    return "", tuple(f"no file in the guest configures {old}: if its system reboots, it may use that address again"
                     for old in unwritten)  # fmt: skip


def _open_doors(ws: Workspace, name: str) -> frozenset[str]:
    return _answering(list(_held(ws, name).values()))


def _answering(doors: list[DoorPlan]) -> frozenset[str]:
    """The TCP doors that answer now, by name."""
    found = probe_all(door_targets(doors, addresses.lan_address()), ROUND_S)
    return frozenset(d.door.name for d in doors if (v := found.get((d.door.guest, d.door.name))) and v.ok)


def _held(ws: Workspace, name: str) -> dict[str, DoorPlan]:
    """The doors of a guest as they are in force."""
    machine = ws.home.read(name).machine
    plan = in_force(ws.lab, ws.plan, {name: machine}) if machine else ws.plan
    return {d.door.name: d for d in plan.doors.values() if d.door.guest == name}


def _silent(ws: Workspace, name: str, opened: frozenset[str]) -> str:
    """A door that was open before and does not answer now; "" if all do."""
    doors = [d for n, d in _held(ws, name).items() if n in opened]
    deadline = time.monotonic() + DOOR_S
    while doors and time.monotonic() < deadline:
        found = _answering(doors)
        if doors := [d for d in doors if d.door.name not in found]:
            time.sleep(PAUSE_S)
    return doors[0].door.name if doors else ""


def _keep(ws: Workspace, name: str) -> None:
    """The new addresses are the guest's. If its configuration has them, its first-boot data need not be applied
    again."""
    record = ws.home.read(name)
    written = not (record.moving or {}).get("unwritten")
    record.moving = None
    if written and record.instance and ws.lab.guests[name].first_boot:
        facts = first_boot_facts(ws, ws.plan, ws.lab.guests[name])
        record.told, record.bare = digest(without_keys(facts)), digest(without_setup(facts))
    ws.home.write(name, record)


def _back(ws: Workspace, name: str, *, to_ask: bool = False) -> None:
    """The record says the former addresses again; with `to_ask` the guest is told once its doors follow."""
    record = ws.home.read(name)
    moving = record.moving or {}
    record.moving = {**moving, "begun": False} if to_ask else None
    if record.machine and moving.get("process") == _process(record):
        former: Machine = {**record.machine, **moving.get("seeds", {})}
        record.machine = moved(record.machine, former, [m.reversed() for m in _moves(moving)])
    ws.home.write(name, record)


def settle(ws: Workspace, names: Collection[str]) -> None:
    """Decide what a killed command left: a guest that still has both addresses keeps the new one, if doors followed
    it."""
    for name in names:
        record = ws.home.read(name)
        if not record.moving:
            continue
        if not ws.home.is_running(name) or record.moving.get("process") != _process(record):
            record.moving = None
            ws.home.write(name, record)
        elif not record.moving.get("begun"):
            if _asked(ws, name, script.back(str(record.moving.get("id"))), LEFT_S).state in ("back", "gone", "denied"):
                record.moving = None
                ws.home.write(name, record)
        elif _asked(ws, name, _confirm(record.moving), LEFT_S).state == "confirmed":
            _keep(ws, name)
        else:
            _back(ws, name)


def at_next_start(changes: list[Change], why: Mapping[str, str]) -> list[Change]:
    """The changes, with each address that is not changed while its guest runs as one for its next start, and the
    reason."""

    def words(change: ChangeAddress) -> str:
        said = ", ".join(f"address {m.before} → {m.after}" for m in change.moves)
        return said + (f" (not while it runs: {why[change.guest]})" if change.guest in why else "")

    return [ChangeMachine(c.guest, words(c), "adapters") if isinstance(c, ChangeAddress) else c for c in changes]
