"""This host's own name servers: they change when it moves to another network."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from dacha.caretaker.services import host_resolvers

# The new ones are used within two seconds.
LOOK_S = 1.0


async def follow_resolvers(changed: Callable[[], None], log: Callable[[str], None]) -> None:
    """Call `changed` whenever they are others."""
    known = host_resolvers()
    while True:
        await asyncio.sleep(LOOK_S)
        if (now := host_resolvers()) != known:
            known = now
            log(f"this host's name servers are {', '.join(now) or 'none'} now")
            changed()
