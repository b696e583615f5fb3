"""`apply`: make the host match the lab, step by step. A command may be killed after every step: the next apply
continues from what it finds."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from itertools import chain

from dacha.core.apply.changes import (
    NEXT_START,
    Change,
    ChangeAddress,
    ChangeInside,
    ChangeKeys,
    Forwarding,
    LoadRules,
    MakeDisk,
    MakeHostKey,
    StartGuest,
    WriteSeed,
    subject,
    when_of,
)
from dacha.core.apply.difference import difference
from dacha.core.apply.machine import Machine
from dacha.core.apply.observed import ObservedGuest
from dacha.core.apply.waves import waves, without
from dacha.core.errors import DachaError
from dacha.core.named import NamedTuple
from dacha.engine import register
from dacha.engine.apply import readdress
from dacha.engine.apply.agreed import Report, agreed
from dacha.engine.apply.carry_out import Work, carry_out
from dacha.engine.apply.pending import with_host
from dacha.engine.apply.readdress import Begun
from dacha.engine.caretaker import process as caretaking
from dacha.engine.disks import kept_disks
from dacha.engine.disks.disks import Progress, silent
from dacha.engine.guest import install, machine_type, prepare, usb
from dacha.engine.guest.desired import desired_machines
from dacha.engine.guest.keys import wanted_keys
from dacha.engine.guest.observe import observe
from dacha.engine.guest.setup_facts import wanted_setups
from dacha.engine.inside.keys import change_keys
from dacha.engine.log.changes import note_applied, note_done, note_failed
from dacha.engine.log.ends import note_ends
from dacha.engine.network import gate, kernel, rules
from dacha.engine.power.start import start_all
from dacha.engine.scoped import scoped
from dacha.engine.shares import smb
from dacha.engine.workspace import Workspace
from dacha.host.files import replace_file
from dacha.host.network import addresses

# Waits for the doors of a guest that has just started, as long as its `ready-within` allows.
Ready = Callable[[Workspace, str], object]


class Outcome(NamedTuple):
    """The result of an apply: what was done, what waits for a guest's next start, what failed."""

    done: list[Change]
    waiting: list[Change]
    failed: list[tuple[Change, DachaError]]


def apply(
    ws: Workspace,
    report: Report,
    *,
    only: set[str] | None = None,
    progress: Progress = silent,
    ready: Ready | None = None,
    live_addresses: bool = True,
) -> Outcome:
    """Make the host match the lab (or only some guests of it). The lab's lock must be held.

    Raises LabError before anything is changed if the lab cannot work; later failures are collected, so that one guest
    does not prevent the others. `progress` is called during long steps; `ready` waits for a guest that others wait for
    (`ready-within`). Without `live_addresses` running guests keep their addresses until their next start.
    """
    with register.held():
        # No other lab chooses until these choices are written down.
        register.refuse_other_state(ws.home, ws.lab)
        ws, seen, concerned, unfit = agreed(ws.again(), only, report, live_addresses=live_addresses)
        register.claim(ws.home, ws.lab, ws.plan)
    note_ends(ws.home, locked=True)
    if only is None:
        ws.home.note_boot()
    keyed = _prepared(ws, seen, concerned)
    lan = addresses.lan_address()
    prepare.write_known_hosts(ws, ws.plan, [lan] if lan else [])
    if lan and any(d.from_lan for d in ws.lab.doors()):
        replace_file(ws.home.announced_address, f"{lan}\n")
    machines = desired_machines(ws, ws.plan)
    begun = readdress.begin(ws, machines, seen, concerned) if live_addresses else readdress.NONE_BEGUN
    now = observe(ws.home, ws.lab.guests)
    if begun.guests:
        seen = now
    changes = difference(ws.lab, ws.plan, machines, now, wanted_keys(ws), wanted_setups(ws))
    changes = readdress.at_next_start([c for c in changes if only is None or c.guest in only], begun.left)
    whole = ws if only is None else scoped(ws, only)
    changes = with_host(whole, changes, seen, only)
    outcome = _carry_out(
        ws, whole, machines, keyed, [c for c in changes if c.guest not in unfit], report, progress, ready, begun
    )
    if any(isinstance(c, ChangeAddress) for c, _ in outcome.failed):
        # The rules and doors of the former addresses.
        again = apply(ws, report, only=only, progress=progress, ready=ready, live_addresses=False)
        readdress.settle(ws, list(begun.guests))
        return Outcome([*outcome.done, *again.done], again.waiting, [*outcome.failed, *again.failed])
    _give_usb(ws, concerned, outcome, report)
    for name, why in unfit.items():
        refusal = next((c for c in changes if c.guest == name), None)
        _failed(ws, outcome, refusal or StartGuest(name), why)
    for name in concerned:
        # An installation whose follower was killed is followed again.
        if seen[name].running and install.pending(ws, name, ws.home.read(name)):
            install.follow(ws, name)
    if only is None or (not outcome.failed and (whole is ws or whole.lab == ws.lab)):
        replace_file(ws.home.applied, ws.text)
        note_applied(ws.home, ws.text)
    if only is None:
        kept_disks.note_removed(ws)
    _let_others_follow(ws, whole, seen)
    return outcome


def _give_usb(ws: Workspace, concerned: list[str], outcome: Outcome, report: Report) -> None:
    """Attach USB devices to running guests, including those that have just been started."""
    for change, failure in usb.follow(ws, concerned):
        if failure is None:
            outcome.done.append(change)
            report(subject(change), change.done(), 0.0)
        elif change not in [c for c, _ in outcome.failed]:
            _failed(ws, outcome, change, failure)


def _prepared(ws: Workspace, seen: dict[str, ObservedGuest], concerned: list[str]) -> list[MakeHostKey]:
    """What guests have before anything else: a folder, and keys and passwords; returns the host keys just created."""
    keyed: list[MakeHostKey] = []
    for name in concerned:
        ws.home.make_guest(name)
        if not seen[name].host_key:
            prepare.make_host_key(ws.home, ws.lab.name, name)
            keyed.append(MakeHostKey(name))
        smb.make_password(ws.home, ws.lab.guests[name])
        prepare.note_inside(ws, ws.lab.guests[name])
        machine_type.note_running(ws.home, name)
    return keyed


def _let_others_follow(ws: Workspace, whole: Workspace, seen: dict[str, ObservedGuest]) -> None:
    """The processes beside the guests use the lab as it is now."""
    caretaking.tell(ws.home)
    gate.renew(ws, {n: s.machine for n, s in seen.items() if s.running and s.machine})
    if kernel.uses_kernel(ws):
        # The name and address of a guest may have changed without any other change.
        rules.adopt(whole)
        kernel.forget(ws)


def _carry_out(
    ws: Workspace,
    whole: Workspace,
    machines: dict[str, Machine],
    keyed: list[MakeHostKey],
    changes: list[Change],
    report: Report,
    progress: Progress,
    ready: Ready | None,
    begun: Begun,
) -> Outcome:
    """Carry out every step; `keyed` are host keys just created, `whole` is the lab whose links and rules belong on this
    host. The preparations of a start are reported together with it."""
    outcome = Outcome([*keyed], [], [])
    work = Work(ws, whole, progress)
    unfit: set[str | None] = set()
    starts = {c.guest: c for c in changes if isinstance(c, StartGuest)}
    made: dict[str | None, list[str]] = {}
    for key in keyed:
        made.setdefault(key.guest, []).append(key.made)
    for change in changes:
        if when_of(change) == NEXT_START:
            outcome.waiting.append(change)
        elif not isinstance(change, StartGuest | ChangeKeys | ChangeInside) and change.guest not in unfit:
            if isinstance(change, Forwarding) and change.on and _lacks_rules(outcome):
                continue  # reported already; nothing is forwarded without them
            began = time.monotonic()
            try:
                further = carry_out(work, change)
            except DachaError as e:
                _failed(ws, outcome, change, e)
                unfit |= without(change, machines)
                continue
            _done(ws, outcome, change)
            if isinstance(change, MakeDisk | WriteSeed) and change.guest in starts:
                made.setdefault(change.guest, []).append(change.made)
            else:
                report(subject(change), change.done(), time.monotonic() - began)
            for about, words in further:
                report(about, words, 0.0)
    for name, parts in made.items():
        if name not in starts or name in unfit:
            report(f"guest {name}", "created " + ", ".join(parts), 0.0)
    _inside(ws, begun, [c for c in changes if isinstance(c, ChangeKeys)], outcome, report)
    for wave in waves(ws.lab.guests, [c for name, c in starts.items() if name not in unfit]):
        for started, failure, took in start_all(ws, machines, wave.starts):
            if failure:
                _failed(ws, outcome, started, failure)
                continue
            _done(ws, outcome, started)
            first = f"created {', '.join(made[started.guest])}; " if started.guest in made else ""
            report(subject(started), first + started.done(), took)
        for name in wave.awaited:
            if ready and ws.home.is_running(name):
                ready(ws, name)
    return outcome


def _inside(ws: Workspace, begun: Begun, keys: list[ChangeKeys], outcome: Outcome, report: Report) -> None:
    """Complete the changes inside running guests, after the rules and doors of this host were updated."""
    results: Iterable[tuple[ChangeAddress | ChangeKeys, DachaError | None, float]]
    results = chain(readdress.finish(ws, begun), change_keys(ws, keys))
    for change, failure, took in results:
        if failure:
            _failed(ws, outcome, change, failure)
            continue
        _done(ws, outcome, change)
        report(subject(change), change.done(), took)


def _done(ws: Workspace, outcome: Outcome, change: Change) -> None:
    outcome.done.append(change)
    note_done(ws.home, change)


def _failed(ws: Workspace, outcome: Outcome, change: Change, error: DachaError) -> None:
    outcome.failed.append((change, error))
    note_failed(ws.home, change, error)


def _lacks_rules(outcome: Outcome) -> bool:
    return any(isinstance(change, LoadRules) for change, _ in outcome.failed)
