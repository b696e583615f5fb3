"""The fault rig: one fault at a time on a host with real guests. `trace` has to name the hop that is broken, and must
never call a way broken that works: each fault is also traced when it is healed.

`make faults` tries all of them, and mends each by its remedy, word for word, where that is a command; a fault whose
remedy is none has to say why (`by-hand`). `make test` tries those that are marked as usual, at least one for each kind
of hop.
"""

from __future__ import annotations

import os
import re
import time
import tomllib
from pathlib import Path
from typing import Any

import pytest

from tests.faults.agreement import disagreement
from tests.faults.remedies import steps
from tests.faults.rig import LAB, Rig, traced
from tests.networks.world import HostedLab

FAULTS = tomllib.loads(Path(__file__).with_name("faults.toml").read_text())["fault"]

# Only faults whose names match.
ONLY = os.environ.get("DACHA_FAULTS", "")

# A login is a question of seconds to an emulated guest: it is tried after the mend of what concerns it.
LOGS_IN = ("service", "key", "login", "protocol", "boot")


@pytest.mark.parametrize("which", ["usual", pytest.param("all", marks=pytest.mark.whole)])
def test_every_fault_is_named_and_no_working_door_is_called_broken(hosted: HostedLab, which: str) -> None:
    rig = Rig(hosted)
    try:
        chosen = [f for f in FAULTS if which == "all" or f.get("usual")]
        _try_all(hosted, rig, [f for f in chosen if re.search(ONLY, f["name"])], mend=which == "all")
    finally:
        rig.router.kill()


def _still_apart(lab: HostedLab, door: tuple[str, ...], said: Any) -> str | None:
    """How the three answers differ, once they have had the time to be of one moment: between two of them the caretaker
    may have asked the router again."""
    deadline = time.monotonic() + 60
    while odd := disagreement(lab, door[0], door[1], said):
        if time.monotonic() > deadline:
            return odd
        said = traced(lab, door)[0]
    return None


def _mended(lab: HostedLab, rig: Rig, fault: dict[str, Any], remedy: str) -> str:
    """What came of the remedy, carried out word for word: "mended", "by hand" where it is no command and the fault says
    why, else what was wrong with it."""
    found = steps(remedy)
    if "by-hand" in fault:
        return "by hand"
    if not found:
        return f"no command, and not said why: {remedy!r}"
    for step in found:
        if step.guest:
            rig.carry_out(f"in {step.guest}: {step.command}")
        else:
            # Its guest without a disk never answers: its door is not waited for.
            rig.carry_out(step.command.replace("dacha apply", "dacha apply --no-wait"))
    door = tuple(fault.get("door", ("gauge", "ssh")))
    after, _ = traced(lab, door, login=fault["names"][0] in LOGS_IN)
    still = after["warnings"] if "beside" in fault else after["broken"]
    return "mended" if not still else f"{remedy!r} was done; still: {after['hops'][-1]}"


def _try_all(lab: HostedLab, rig: Rig, faults: list[dict[str, Any]], *, mend: bool) -> None:
    lab.write(LAB)
    lab("apply", "--no-wait")
    for door in (("gauge", "ssh"), ("charts", "ssh"), ("gauge", "out")):
        deadline = time.monotonic() + 600  # every lot begins at once, and three guests boot
        while (said := traced(lab, door)[0])["broken"] is not None:
            assert time.monotonic() < deadline, said["hops"][-1]
    missed, alarms, apart, vain, slowest = [], [], [], [], 0.0
    print(f"\n{'fault':<42} {'expected':<12} {'named':<12} {'remedy':<12} healed")
    for fault in faults:
        name, door, (hop, says) = fault["name"], tuple(fault.get("door", ("gauge", "ssh"))), fault["names"]
        rig.carry_out(fault["inject"])
        beside = "beside" in fault
        said, took = traced(lab, door, None if beside else hop, "" if beside else says)
        slowest = max(slowest, took)
        named = next(iter(said["warnings"]), None) if beside else said["broken"]
        words = " ".join(next((h for h in said["hops"] if h["name"] == named), {}).values())
        if odd := _still_apart(lab, (door[0], door[1]), said):
            apart.append((name, odd))
        if named != hop or says not in words or (beside and said["broken"]):
            missed.append((name, said["broken"], words))
        healed, by = "-", ""
        if mend and named == hop:
            remedy = next(h for h in said["hops"] if h["name"] == named)["remedy"]
            by = _mended(lab, rig, fault, remedy or "")
            if by not in ("mended", "by hand"):
                vain.append((name, by))
        if "heal" in fault:
            mended = by == "mended"
            rig.carry_out(fault.get("undo", fault["heal"]) if mended else fault["heal"], whatever=mended)
            after, took = traced(lab, tuple(fault.get("healed", door)), login=hop in LOGS_IN)
            slowest = max(slowest, took)
            healed = after["broken"] or "works"
            if hop == "applied" and (odd := _still_apart(lab, tuple(fault.get("healed", door))[:2], after)):
                apart.append((f"{name}, healed", odd))
            if after["broken"]:
                alarms.append((name, after["hops"][-1]))
        print(f"{name:<42} {hop:<12} {named or 'none':<12} {by[:10]:<12} {healed}")
    share = 100 * (1 - len(missed) / len(faults))
    print(f"{len(faults)} faults, {share:.0f} % named rightly, {len(alarms)} working doors called broken")
    if mend:
        print(f"{len(vain)} remedies that were commands did not mend it, or were none without a word why")
    print(f"the slowest trace took {slowest:.1f} s")
    print(f"{len(apart)} times reach, status and trace disagreed")
    assert not alarms, alarms
    assert not apart, "\n".join(map(str, apart))
    assert not missed, missed
    assert not vain, "\n".join(map(str, vain))
