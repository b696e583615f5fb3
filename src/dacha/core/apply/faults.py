"""Guests that QEMU has suspended by itself: the reason, and how to resume them."""

from __future__ import annotations

from dacha.core.named import NamedTuple
from dacha.core.units import show_size

# QMP run states (qapi/run-state.json) of such guests, and their meaning.
NO_ROOM = "io-error"
FAULTS = {
    NO_ROOM: "the host file system that holds its disks is full",
    "guest-panicked": "its system crashed",
    "internal-error": "its system crashed",
}
# With less free space (bytes), QEMU would suspend the guest again at once.
ROOM_LEAST = 1 << 20


class Held(NamedTuple):
    """Why a guest is suspended, and the remedy; `full` if it would be suspended again at once."""

    what: str
    why: str
    remedy: str
    full: bool = False


def held(guest: str, fault: str, room: tuple[int, str] | None, then: str = "resume") -> Held:
    """Explain a guest that is suspended by a fault in FAULTS. `room` is the free space for its disks (bytes) and the
    folder, None if unknown; `then` is the command that the user wants to run afterwards."""
    if fault != NO_ROOM:
        return Held(FAULTS[fault], f"QEMU reports the state {fault}", f"dacha restart {guest} --force")
    # No data is lost: QEMU retries the failed writes when the guest is resumed.
    why, remedy = "its last writes are pending", f"dacha {then} {guest}"
    if room is None:
        return Held(FAULTS[fault], why, remedy)
    free, folder = room
    why = f"{why}: {show_size(free)} is free in {folder}"
    if free < ROOM_LEAST:
        return Held(FAULTS[fault], why, f"free some space there, then: {remedy}", full=True)
    return Held("the host file system that holds its disks was full", why, remedy)
