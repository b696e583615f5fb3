"""Commands of the user's choice that the caretaker runs at an event: the tables `[on.EVENT]`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from typing import Literal

    AlertEvent = Literal[
        "door-closed", "guest-failed", "storage-low", "address-moved", "rules-changed", "archive-failed"
    ]

# The events, and what happened then.
EVENTS: dict[AlertEvent, str] = {
    "door-closed": "a door of a running guest does not respond",
    "guest-failed": "a guest ended that nobody stopped",
    "storage-low": "a file system that holds disks is nearly full",
    "address-moved": "a guest uses another address",
    "rules-changed": "another program changed the lab's firewall rules or links",
    "archive-failed": "a guest could not be saved to its next archive",
}
# How long a door may be closed before it is reported; how much free space is low (percent).
AFTER_S, BELOW = 60.0, 5


class Alert(NamedTuple):
    """A command for an event: its words; a door is reported after `after_s` seconds, a file system `below` that much
    free space (percent)."""

    event: AlertEvent
    run: tuple[str, ...]
    after_s: float = AFTER_S
    below: int = BELOW
