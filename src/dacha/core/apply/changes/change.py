"""Properties of every kind of change: its name in JSON, its phase in an apply, and when it can be carried out."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from dacha.core.named import NamedTuple

# When a change takes effect.
LIVE, NEXT_START = "live", "at next start"
# The phases of an apply: values written into the lab file, what guests need from this host, the guests, and what ends.
FILE, HOST, GUESTS, END = range(4)

_T = TypeVar("_T", bound=type)


class Kind(NamedTuple):
    """A kind of change. `name` is stable, for scripts ("start-guest")."""

    name: str
    phase: int
    when: str = LIVE


# Every kind, by the class of its changes.
KINDS: dict[type, Kind] = {}


def change(name: str, phase: int, when: str = LIVE) -> Callable[[_T], _T]:
    """Class decorator: register a kind of change. `str()` of a change describes what is to be done, its `done()` what
    was done."""

    def note(made: _T) -> _T:
        KINDS[made] = Kind(name, phase, when)
        return made

    return note


def kind_of(change: Any) -> str:
    """The change's stable name in JSON."""
    return KINDS[type(change)].name


def when_of(change: Any) -> str:
    """LIVE, or NEXT_START for a change that a running guest accepts only at its next start."""
    return KINDS[type(change)].when


def phase_of(change: Any) -> int:
    """The change's phase. Whatever disables something belongs to the last one."""
    return KINDS[type(change)].phase if getattr(change, "on", True) else END
