"""A hop of the way to a service, as it is judged and shown."""

from __future__ import annotations

from dacha.core.named import NamedTuple

# ASIDE is something that is wrong and keeps nobody out of this door.
FINE, BROKEN, UNTESTED, ASIDE = "fine", "broken", "not tested", "warning"


class Hop(NamedTuple):
    """One hop: what was seen, and for a broken one what it means and what to do."""

    name: str
    verdict: str
    seen: str
    means: str = ""
    remedy: str = ""
