"""Evidence of a trace with other values, by the names of their fields alone."""

from __future__ import annotations

from typing import Any

from dacha.core.trace.seen.evidence import Evidence


def but(e: Evidence, **values: Any) -> Evidence:
    """`e` with other values. A value belongs to the one record that has a field of its name."""
    for name, value in values.items():
        if name in e._fields:
            e = e._replace(**{name: value})
            continue
        (part,) = (p for p in e._fields if name in getattr(getattr(e, p), "_fields", ()) and p in PARTS)
        e = e._replace(**{part: getattr(e, part)._replace(**{name: value})})
    return e


# The records that each evidence has.
PARTS = ("lab", "run", "access", "link", "net", "tried", "host", "sources", "names", "gathered")
