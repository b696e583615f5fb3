"""Stop, pause and resume running guests."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterable

from dacha.core.apply.faults import NO_ROOM, held
from dacha.core.apply.observed import HUNG, OFF, ON, PAUSED, SAVED, ObservedGuest
from dacha.core.errors import AnswerNo, DachaError, HostError, UsageError
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean
from dacha.engine.console import gave_up
from dacha.engine.disks.room import room
from dacha.engine.guest.observe import full_name, observe_guest
from dacha.engine.home import Home
from dacha.engine.log.ends import note_ends
from dacha.engine.log.journal import note
from dacha.engine.power import saving
from dacha.engine.power.stopped import clean_up
from dacha.engine.record import Record
from dacha.hypervisor import process

Report = Callable[[str, str, float], None]


def choose(known: Iterable[str], named: Iterable[str], everything: bool) -> list[str]:
    """The selected guests of a command. Raises UsageError for an unknown name, or without any."""
    names = list(known)
    wanted = list(dict.fromkeys(named))
    for name in wanted:
        if name not in names:
            raise UsageError(
                f"there is no guest {name}", remedy=did_you_mean(name, names, "add one: dacha guest add NAME")
            )
    if not wanted and not everything:
        raise UsageError("no guest specified", remedy="name at least one guest, or use --all")
    return names if everything else wanted


def stop(
    home: Home,
    names: Iterable[str],
    *,
    wait_s: float,
    force: bool = False,
    on_purpose: bool = True,
    report: Report = lambda subject, text, seconds: None,
) -> None:
    """Stop guests: press all power buttons first, then wait for each, `wait_s` seconds in total. With `force`, guests
    that do not stop in time are powered off (at once if `wait_s` is 0). Guests that cannot stop, because their kernel
    panicked or the file system of their disks is full, are not waited for. `on_purpose` records that they should stay
    off, so that `apply` does not start them. Raises AnswerNo for those that are still on; HostError if all are off but
    that could not be recorded, as on a full disk."""
    began = time.monotonic()
    pressed: list[tuple[str, process.Found, _Deaf | None]] = []
    pressed_before: set[str] = set()
    failed: list[DachaError] = []
    off: list[str] = []
    unnoted: dict[str, Record] = {}
    for name in names:
        saving.settle(home, name)
        record = home.read(name)
        found = process.find(home.run(name), home.process_lock(name), full_name(home, name), record.process)
        if on_purpose and not record.stopped_on_purpose and record.removed is None and home.guest(name).is_dir():
            record.stopped_on_purpose = True
            if _unwritten(home, name, record):
                unnoted[name] = record
        if found is None:
            report(f"guest {name}", _off_words(home, name), 0.0)
            off.append(name)
            continue
        deaf = _deaf(home, name, found)
        if record.pressed is not None:
            pressed_before.add(name)
        try:
            if deaf:
                raise deaf.refusal
            if not (force and (wait_s == 0 or record.pressed)):
                process.press_power(found.process, home.run(name), name)
                _note_pressed(home, name)
        except AnswerNo as e:
            if not force:
                failed.append(e)
                continue
        pressed.append((name, found, deaf))
    for name, found, deaf in pressed:
        # The guest already had this time: --force does not wait again.
        again = force and home.read(name).pressed is not None and name in pressed_before
        left = 0.0 if deaf or again else max(0.0, began + wait_s - time.monotonic())
        try:
            report(f"guest {name}", _ended(home, name, found, left, wait_s, deaf, force), time.monotonic() - began)
            off.append(name)
        except AnswerNo as e:
            failed.append(e)
    # Stopped guests may have freed some space.
    failed += [words for name, record in unnoted.items() if name in off and (words := _unwritten(home, name, record))]
    if failed:
        raise failed[0] if len(failed) == 1 else AnswerNo("\n".join("\n".join(e.lines()) for e in failed))


def _off_words(home: Home, name: str) -> str:
    return f"is off, saved: dacha start {name} continues it" if home.saved_note(name).exists() else "is off"


def _note_pressed(home: Home, name: str) -> None:
    """Record that a guest's power button was pressed; omitted on a full disk."""
    record = home.read(name)
    record.pressed = time.time()
    with contextlib.suppress(HostError):
        home.write(name, record)
    note(home, "asked", name)


def _note_forced(home: Home, name: str) -> None:
    """Record that Dacha powers a guest off; omitted on a full disk."""
    record = home.read(name)
    record.forced = time.time()
    with contextlib.suppress(HostError):
        home.write(name, record)


class _Deaf(NamedTuple):
    """Why a guest does not respond to the power button: in full, and briefly for the message after it was powered
    off."""

    refusal: AnswerNo
    had: str


def _deaf(home: Home, name: str, found: process.Found) -> _Deaf | None:
    if panic := gave_up(home, name):
        what = f"{name} does not respond to the power button: its kernel panicked"
        return _Deaf(AnswerNo(what, why=panic, remedy=process.force(name)), "its kernel had panicked")
    if found.status == NO_ROOM and (still := held(name, NO_ROOM, room(home, name), "stop")).full:
        what, remedy = (
            f"{name} does not respond to the power button: {still.what}",
            f"{still.remedy}\n{process.force(name)}",
        )
        return _Deaf(AnswerNo(what, why=still.why, remedy=remedy), still.what)
    return None


def _ended(
    home: Home, name: str, found: process.Found, left: float, wait_s: float, deaf: _Deaf | None, force: bool
) -> str:
    """Wait until a guest is off, `left` seconds of the `wait_s` since its button was pressed; returns how it ended.
    Raises AnswerNo if it is still on."""
    if found.process is None:
        raise AnswerNo(f"the process of {name} cannot be identified")
    said = "stopped"
    try:
        process.await_end(found.process, name, left, wait_s)
    except AnswerNo:
        if not force:
            raise
        _note_forced(home, name)
        process.power_off(found.process, home.run(name))
        said = f"powered off: {deaf.had}" if deaf else "powered off"
    clean_up(home, name)
    note_ends(home, [name], locked=True)
    return said


def _unwritten(home: Home, name: str, record: Record) -> HostError | None:
    """Record that a guest should stay off; the consequence if that is not possible, as on a full disk."""
    try:
        home.write(name, record)
    except HostError as e:
        return HostError(
            f"{name} is off, but Dacha could not record this: the next apply would start it",
            why=f"{e.what}: {e.why}",
            remedy=f"{e.remedy}, then: dacha stop {name}",
        )
    return None


def refuse_unwritable(home: Home, names: Iterable[str]) -> None:
    """Raise HostError if a guest's record cannot be written, as on a full disk: once off, it could not start."""
    for name in names:
        if home.guest(name).is_dir():
            home.write(name, home.read(name))


def hold(home: Home, name: str, *, resume: bool) -> str:
    """Pause or resume a guest; returns its state, or that it was already so. Raises AnswerNo if it is off."""
    saving.settle(home, name)
    seen: ObservedGuest = observe_guest(home, name, forwards=False)
    if seen.state == OFF:
        raise AnswerNo(f"{name} is off", remedy=f"dacha start {name}")
    if seen.state == SAVED:
        raise AnswerNo(f"{name} is saved to disk, not paused", remedy=f"dacha start {name}")
    if seen.state == HUNG:
        raise AnswerNo(
            f"{name} does not respond: QEMU hangs, or its process is stopped", remedy=f"dacha restart {name} --force"
        )
    if seen.state == (ON if resume else PAUSED):
        return "is already running" if resume else "is already paused"
    if seen.fault and (still := held(name, seen.fault, room(home, name))).full:
        raise AnswerNo(f"{name} would be suspended again: {still.what}", why=still.why, remedy=still.remedy)
    process.pause(home.run(name), resume=resume)
    note(home, "resumed" if resume else "paused", name)
    return "resumed" if resume else "paused: memory kept, clock stopped"
