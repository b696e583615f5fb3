"""Guests that QEMU holds though nobody paused them: what happened, and what lets them go on."""

from __future__ import annotations

from dacha.core.named import NamedTuple
from dacha.core.units import show_size

# QMP's run states (qapi/run-state.json) of such guests, and what they mean.
NO_ROOM = "io-error"
FAULTS = {
    NO_ROOM: "the host file system that holds its disks is full",
    "guest-panicked": "its system crashed",
    "internal-error": "its system crashed",
}
# With less free for its disks (bytes) it would stand still again at once.
ROOM_LEAST = 1 << 20


class Held(NamedTuple):
    """Why a guest stands still, and what to do; `full` where it would stand still again if it went on now."""

    what: str
    why: str
    remedy: str
    full: bool = False


def held(guest: str, fault: str, room: tuple[int, str] | None, then: str = "resume") -> Held:
    """About a guest that is held by a fault among FAULTS. `room` is what is free for its disks (bytes) and in which
    folder, None where that is not known; `then` the command that somebody wants to come to."""
    if fault != NO_ROOM:
        return Held(FAULTS[fault], f"QEMU reports the state {fault}", f"dacha restart {guest} --force")
    # Nothing is lost yet: what it wrote waits to be written, and it with that.
    why, remedy = "its last writes are pending", f"dacha {then} {guest}"
    if room is None:
        return Held(FAULTS[fault], why, remedy)
    free, folder = room
    why = f"{why}: {show_size(free)} is free in {folder}"
    if free < ROOM_LEAST:
        return Held(FAULTS[fault], why, f"free some space there, then: {remedy}", full=True)
    return Held("the host file system that holds its disks was full", why, remedy)
