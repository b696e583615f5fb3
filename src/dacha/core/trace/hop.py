"""A hop of the path to a service, as judged and shown."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from typing import Literal

    Verdict = Literal["fine", "broken", "not tested", "warning"]

# ASIDE is a problem that does not block this door.
FINE: Verdict = "fine"
BROKEN: Verdict = "broken"
UNTESTED: Verdict = "not tested"
ASIDE: Verdict = "warning"


class Hop(NamedTuple):
    """One hop: what was seen, and if it is broken, what that means and what to do."""

    name: str
    verdict: Verdict
    seen: str
    means: str = ""
    remedy: str = ""
