"""Whom a door admits, as somebody edits it: one more, one less, and never everybody by accident."""

from __future__ import annotations

from dacha.core.errors import UsageError
from dacha.core.lab import fields
from dacha.core.lab.model import Door


def admitted(door: Door, more: list[str], less: list[str]) -> list[str]:
    """The addresses and subnets that the door admits after `more` were added and `less` taken away.

    Raises UsageError for one that is not admitted, and where nobody would be left: an empty list admits everybody.
    """
    sources = [fields.show_source(source) for source in door.allow]
    for written in less:
        try:
            source = fields.show_source(fields.source(written))
        except ValueError as e:
            raise UsageError(f"--disallow: {e.args[0]}", remedy=e.args[1] if len(e.args) > 1 else "") from e
        if source not in sources:
            raise UsageError(
                f"door {door.guest} {door.name} does not admit {written} by itself",
                remedy=f"it admits: {', '.join(sources) or 'everybody'}",
            )
        sources.remove(source)
    after = list(dict.fromkeys([*sources, *more]))
    if not after:
        raise UsageError(
            f"door {door.guest} {door.name} would admit everybody",
            why="those were all that it admits",
            remedy=f"if that is meant: dacha door edit {door.guest} {door.name} --unset allow",
        )
    return after
