"""Stopping, pausing, resuming guests that run."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable

from dacha.core.apply.observed import HUNG, OFF, ON, PAUSED, ObservedGuest
from dacha.core.errors import AnswerNo, DachaError, UsageError
from dacha.core.spelling import did_you_mean
from dacha.engine.guest.console import gave_up
from dacha.engine.guest.observe import full_name, observe_guest
from dacha.engine.home import Home
from dacha.host import cgroup
from dacha.hypervisor import process

Report = Callable[[str, str, float], None]


def choose(known: Iterable[str], named: Iterable[str], everything: bool) -> list[str]:
    """The guests meant on a command line. Raises UsageError for an unknown name, or when nothing was named."""
    names = list(known)
    wanted = list(dict.fromkeys(named))
    for name in wanted:
        if name not in names:
            raise UsageError(
                f"there is no guest {name}", remedy=did_you_mean(name, names, "add one: dacha guest add NAME")
            )
    if not wanted and not everything:
        raise UsageError("no guest was named", remedy="name some, or say --all")
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
    """Stop guests: all power buttons first, then wait for each, `wait_s` seconds for all together.

    With `force`, what does not stop in time is powered off (at once when `wait_s` is 0). What cannot stop, as its
    kernel has given up, is not waited for. `on_purpose` notes that they were meant to be off, so that `apply` leaves
    them so. Raises AnswerNo for those that are still on.
    """
    began = time.monotonic()
    # With each, what its kernel said if it has given up: it hears no button.
    pressed: list[tuple[str, process.Found, str | None]] = []
    failed: list[DachaError] = []
    for name in names:
        record = home.read(name)
        found = process.find(home.run(name), home.process_lock(name), full_name(home, name), record.process)
        if on_purpose and not record.stopped_on_purpose and record.removed is None and home.guest(name).is_dir():
            record.stopped_on_purpose = True
            home.write(name, record)
        if found is None:
            report(f"guest {name}", "is off", 0.0)
            continue
        panic = gave_up(home, name)
        try:
            if panic:
                what = f"{name} hears no power button: its kernel has given up"
                raise AnswerNo(what, why=panic, remedy=process.force(name))
            if not (force and wait_s == 0):
                process.press_power(found.process, home.run(name), name)
        except AnswerNo as e:
            if not force:
                failed.append(e)
                continue
        pressed.append((name, found, panic))
    for name, found, panic in pressed:
        left = 0.0 if panic else max(0.0, began + wait_s - time.monotonic())
        try:
            if found.process is None:
                raise AnswerNo(f"the process of {name} cannot be told")
            process.await_end(found.process, name, left, wait_s)
            _after(home, name)
            report(f"guest {name}", "stopped", time.monotonic() - began)
        except AnswerNo as e:
            if force and found.process:
                process.power_off(found.process, home.run(name))
                _after(home, name)
                said = "powered off: its kernel had given up" if panic else "powered off"
                report(f"guest {name}", said, time.monotonic() - began)
            else:
                failed.append(e)
    if failed:
        raise failed[0] if len(failed) == 1 else AnswerNo("\n".join("\n".join(e.lines()) for e in failed))


def _after(home: Home, name: str) -> None:
    """What goes with a guest's process."""
    cgroup.remove(home.lab, name)
    if home.tpm_note(name).is_file():
        from dacha.hypervisor.beside import tpm

        tpm.end(home.tpm_note(name))


def hold(home: Home, name: str, *, resume: bool) -> str:
    """Pause a guest or let it go on; says what it is now, or that it was so already. Raises AnswerNo when it is off."""
    seen: ObservedGuest = observe_guest(home, name, forwards=False)
    if seen.state == OFF:
        raise AnswerNo(f"{name} is off", remedy=f"dacha start {name}")
    if seen.state == HUNG:
        raise AnswerNo(
            f"{name} does not answer: QEMU hangs, or was stopped from outside", remedy=f"dacha restart {name} --force"
        )
    if seen.state == (ON if resume else PAUSED):
        return "is running already" if resume else "is paused already"
    process.pause(home.run(name), resume=resume)
    return "resumed" if resume else "paused: its memory stays, its clock stands"
