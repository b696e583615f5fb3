"""This host's own name servers: they change when it moves to another network."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

# The new ones are used within two seconds.
LOOK_S = 1.0


async def follow_resolvers(
    look: Callable[[], tuple[str, ...]], changed: Callable[[], None], log: Callable[[str], None]
) -> None:
    """Call `changed` whenever `look` finds others."""
    known = look()
    while True:
        await asyncio.sleep(LOOK_S)
        if (now := look()) != known:
            known = now
            log(f"this host's name servers are {', '.join(now) or 'none'} now")
            changed()
