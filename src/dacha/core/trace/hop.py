"""A hop of the path to a service, as judged and shown."""

from __future__ import annotations

from dacha.core.named import NamedTuple

# ASIDE is a problem that does not block this door.
FINE, BROKEN, UNTESTED, ASIDE = "fine", "broken", "not tested", "warning"


class Hop(NamedTuple):
    """One hop: what was seen, and if it is broken, what that means and what to do."""

    name: str
    verdict: str
    seen: str
    means: str = ""
    remedy: str = ""
