"""Events of a lab's log: values, from which the words are made where they are shown."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Any

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple
from dacha.core.units import show_duration

# A longer text is truncated: an event is one line of bounded length.
TEXT_MOST = 2000
NOTHING: Mapping[str, Any] = MappingProxyType({})


class Invoker(NamedTuple):
    """The origin of an event: the command, the user who typed it, and that user's terminal or unit ("" if unknown)."""

    command: str = ""
    user: str = ""
    terminal: str = ""
    unit: str = ""

    def words(self) -> str:
        """Return such as "dacha stop gauge, by root at pts/0"."""
        at = f" at {self.terminal}" if self.terminal else f" in {self.unit}" if self.unit else ""
        return f"{self.command or 'dacha'}, by {self.user}{at}" if self.user else self.command


class Event(NamedTuple):
    """One event: when (Unix seconds), its kind (`KINDS`), the guest concerned, its origin, and what else is known about
    it."""

    time: float
    kind: str
    guest: str | None = None
    by: Invoker | None = None
    data: Mapping[str, Any] = NOTHING

    def text(self) -> str:
        """Return the event in words, without its time, guest and origin."""
        words = KINDS.get(self.kind)
        return words(self.data) if words else f"{self.kind}: {_text(self.data, 'text')}"


def _text(data: Mapping[str, Any], key: str) -> str:
    value = data.get(key)
    return "" if value is None else str(value)


def _for(data: Mapping[str, Any]) -> str:
    seconds = data.get("for_s")
    return show_duration(float(seconds)) if isinstance(seconds, int | float) else ""


def _door(data: Mapping[str, Any]) -> str:
    name = f"door {_text(data, 'door')}"
    if data.get("answers"):
        return f"{name} responds" + (f" again, after {_for(data)}" if _for(data) else "")
    seen = _text(data, "seen")
    return (
        f"{name} does not respond" + (f", for {_for(data)} now" if _for(data) else "") + (f": {seen}" if seen else "")
    )


def _failed(data: Mapping[str, Any]) -> str:
    return f"failed: {_text(data, 'subject')}: {_text(data, 'text')}"


def _change(data: Mapping[str, Any]) -> str:
    return f"{_text(data, 'subject')}: {_text(data, 'text')}"


def _ended(data: Mapping[str, Any]) -> str:
    return f"ended: {_text(data, 'text')}"


def _address(data: Mapping[str, Any]) -> str:
    return f"address {_text(data, 'before') or 'none'} → {_text(data, 'now') or 'none'} on {_text(data, 'network')}"


def _place(data: Mapping[str, Any]) -> str:
    return f"this host is at {_text(data, 'place') or 'an unknown place'} ({_text(data, 'text')})"


def _archived(data: Mapping[str, Any]) -> str:
    if data.get("failed"):
        return f"could not be saved to its next archive: {_text(data, 'text')}"
    old = data.get("deleted")
    return f"saved to its archive {_text(data, 'text')}" + (f"; {old} no longer kept" if old else "")


def _restart(data: Mapping[str, Any]) -> str:
    return f"is started again, attempt {_text(data, 'attempt')}"


def _command(data: Mapping[str, Any]) -> str:
    return f"the command for {_text(data, 'event')} {_text(data, 'text')}"


# Every kind of event, with its words. The names are stable: scripts read them.
KINDS: dict[str, Callable[[Mapping[str, Any]], str]] = {
    "applied": lambda data: f"the lab file was applied{_text(data, 'text')}",
    "restored": lambda data: f"the lab file is again as it was applied at {_text(data, 'text')}",
    "edited": lambda data: f"the lab file was edited: {_text(data, 'keys')}",
    "changed": _change,
    "failed": _failed,
    "started": lambda data: "started",
    "saved": lambda data: f"saved to disk: {_text(data, 'text')}",
    "continued": lambda data: f"continues from its saved state{_text(data, 'text')}",
    "archived": _archived,
    "snapshot": lambda data: f"snapshot {_text(data, 'name')} {_text(data, 'text')}",
    "discarded": lambda data: f"its saved state was deleted: {_text(data, 'text')}",
    "asked": lambda data: "power button pressed",
    "ended": _ended,
    "paused": lambda data: "paused",
    "resumed": lambda data: "resumed",
    "restarted": _restart,
    "gave-up": lambda data: f"is not started again: {_text(data, 'text')}",
    "not-ready": lambda data: f"did not respond within {_for(data)}: the guests after it start all the same",
    "door": _door,
    "address": _address,
    "rules": lambda data: f"the lab's rules or links: {_text(data, 'text')}",
    "storage": lambda data: f"a file system is nearly full: {_text(data, 'text')}",
    "place": _place,
    "caretaker": lambda data: f"the caretaker {_text(data, 'text')}",
    "command": _command,
}


def to_line(event: Event) -> str:
    """The event as one line of JSON, without line end."""
    data = {k: _short(v) for k, v in event.data.items()}
    by = {k: _short(v) for k, v in event.by._asdict().items() if v} if event.by else None
    raw = {"time": round(event.time, 3), "kind": event.kind, "guest": event.guest, "by": by, "data": data}
    return json.dumps({k: v for k, v in raw.items() if v not in (None, {})}, ensure_ascii=False)


def _short(value: Any) -> Any:
    return harmless(value)[:TEXT_MOST] if isinstance(value, str) else value


def from_line(line: str) -> Event | None:
    """The event of a line; None for one that is truncated or damaged."""
    try:
        raw = json.loads(line)
        by = raw.get("by")
        known = {k: str(v) for k, v in by.items() if k in Invoker._fields} if isinstance(by, dict) else None
        data = raw.get("data")
        return Event(
            time=float(raw["time"]),
            kind=str(raw["kind"]),
            guest=str(raw["guest"]) if raw.get("guest") is not None else None,
            by=Invoker(**known) if known else None,
            data=data if isinstance(data, dict) else {},
        )
    except (AttributeError, KeyError, OverflowError, RecursionError, TypeError, ValueError):
        return None
