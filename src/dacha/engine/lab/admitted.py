"""The sources that a door allows, as edited: one more, one less, and never all clients by accident."""

from __future__ import annotations

from dacha.core.errors import BadValue, UsageError
from dacha.core.lab import address_fields
from dacha.core.lab.model import Door


def admitted(door: Door, more: list[str], less: list[str]) -> list[str]:
    """The addresses and subnets that the door allows after `more` were added and `less` removed.

    Raises UsageError for one that is not in the list, and if none would remain: an empty list allows every client.
    """
    sources = [address_fields.show_source(source) for source in door.allow]
    for written in less:
        try:
            source = address_fields.show_source(address_fields.source(written))
        except BadValue as e:
            raise UsageError(f"--disallow: {e.what}", remedy=e.remedy) from e
        if source not in sources:
            raise UsageError(
                f"door {door.guest} {door.name} does not list {written}",
                remedy=f"choose one that it allows: {', '.join(sources) or 'every client'}",
            )
        sources.remove(source)
    after = list(dict.fromkeys([*sources, *more]))
    if not after:
        raise UsageError(
            f"door {door.guest} {door.name} would allow every client",
            why="no address would remain in allow",
            remedy=f"if this is intended: dacha door edit {door.guest} {door.name} --unset allow",
        )
    return after
