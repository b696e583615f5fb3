"""What a script in a guest answers: lines that begin with its word, and a last one that says it ran to its end."""

from __future__ import annotations

from collections.abc import Callable


def answers_of(text: str, said: str, end: str) -> Callable[[str], list[str]] | None:
    """The answers by their name, from lines "SAID NAME ANSWER"; other lines are ignored. None if the line `end` is
    missing: then the script did not run to its end."""
    lines = [line.strip() for line in text.splitlines()]
    if end not in lines:
        return None
    rows = [line.split(" ", 2)[1:] for line in lines if line.startswith(f"{said} ")]

    def all_of(name: str) -> list[str]:
        return [row[1] if len(row) > 1 else "" for row in rows if row[0] == name]

    return all_of
