"""A cause of a broken hop, as the guest's reports show it."""

from __future__ import annotations

from dacha.core.named import NamedTuple
from dacha.core.trace.causes.advice import Advice


class Cause(NamedTuple):
    """What the guest reports; what that means; what to do, None if that is unknown. One that is not `proved` is a
    possibility."""

    seen: str
    means: str
    advice: Advice | None = None
    proved: bool = True
