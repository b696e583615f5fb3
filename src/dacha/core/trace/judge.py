"""The way to one service, hop by hop: from what was seen on the host to a verdict on each, its cause and its remedy.

Pure: what was seen is an `Evidence`, gathered elsewhere and all at once, so that a hop may be judged by what others
showed. A hop is broken only where something was seen that keeps clients out.
"""

from __future__ import annotations

from dacha.core.trace.evidence import Evidence
from dacha.core.trace.hop import BROKEN, Hop
from dacha.core.trace.way import WAY


def judge(e: Evidence) -> list[Hop]:
    """Every hop of the way in its order."""
    hops = (kind.judge(e) for kind in WAY if kind.on(e))
    return [hop for hop in hops if hop is not None]


def broken(hops: list[Hop]) -> Hop | None:
    """The first broken hop."""
    return next((h for h in hops if h.verdict == BROKEN), None)
