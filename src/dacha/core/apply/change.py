"""What every kind of change has: its name in JSON, its place in the order of an apply, and when it can be taken."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from dacha.core.named import NamedTuple

# When a step is taken.
LIVE, NEXT_START = "live", "at next start"
# The order of an apply: what is written into the file, this host's part that guests need, the guests, and what ends.
FILE, HOST, GUESTS, END = range(4)

_T = TypeVar("_T", bound=type)


class Kind(NamedTuple):
    """A kind of change: `name` is stable, scripts read it ("start-guest")."""

    name: str
    phase: int
    when: str = LIVE


# Every kind, by the class of its changes.
KINDS: dict[type, Kind] = {}


def change(name: str, phase: int, when: str = LIVE) -> Callable[[_T], _T]:
    """Marks a class as a kind of change. `str()` of one says what is to be done, its `done()` what was."""

    def note(made: _T) -> _T:
        KINDS[made] = Kind(name, phase, when)
        return made

    return note


def kind_of(change: Any) -> str:
    """The change's stable name in JSON."""
    return KINDS[type(change)].name


def when_of(change: Any) -> str:
    """LIVE, or NEXT_START for what a running guest takes up only then."""
    return KINDS[type(change)].when


def phase_of(change: Any) -> int:
    """Its place in the order. What switches something off belongs to the end."""
    return KINDS[type(change)].phase if getattr(change, "on", True) else END
