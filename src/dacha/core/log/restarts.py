"""Whether a guest that ended is started again, and when: with growing pauses, and an end."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from dacha.core.log.ends import ORDERLY
from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from typing import Literal

    from dacha.core.log.ends import Reason

    Restart = Literal["never", "on-failure", "always"]

# A guest that ran this long (seconds) has recovered: earlier ends do not count.
RECOVERED_S = 600.0
# The pauses before the attempts (seconds); after the last, it stays off.
PAUSES_S = (1.0, 2.0, 5.0, 15.0, 60.0)


class Again(NamedTuple):
    """A start after an end: the number of the attempt, counted from 1, and the pause before it (seconds)."""

    attempt: int
    after_s: float


def wanted(policy: Restart, reason: Reason) -> bool:
    """True if a guest with this policy is started again after an end with this reason. What Dacha ended stays off, and
    so does what ended with this host: `at-boot` decides about that."""
    if policy == "never" or reason in ("asked", "powered-off", "host", "host-stop", "installed"):
        return False
    return policy == "always" or reason not in ORDERLY


def recent(ends: Sequence[tuple[float, float]]) -> int:
    """How many ends in a row count, the last one included: `ends` are starts and ends of the guest (Unix seconds),
    oldest first."""
    count = 0
    for started, ended in reversed(ends):
        count += 1
        if ended - started >= RECOVERED_S:
            break
    return count


def again(ends: Sequence[tuple[float, float]]) -> Again | None:
    """The next attempt; None after too many ends in a row."""
    count = recent(ends)
    return Again(count, PAUSES_S[count - 1]) if 0 < count <= len(PAUSES_S) else None
