"""The way to one service, hop by hop: from what was seen on the host to a verdict on each, its cause and its remedy.

Pure: what was seen is an `Evidence`, gathered elsewhere and all at once, so that a hop may be judged by what others
showed. A hop is broken only where something was seen that keeps clients out.
"""

from __future__ import annotations

from collections.abc import Iterator

from dacha.core.trace.evidence import Evidence
from dacha.core.trace.guest import adapter, address, applied, boot, guest, lab_file, neighbour, route
from dacha.core.trace.hop import BROKEN, Hop
from dacha.core.trace.host import (
    door,
    door_rule,
    firewall,
    forwarding,
    lan_address,
    names,
    sources,
)
from dacha.core.trace.router import outside_address, router
from dacha.core.trace.service import certificate, forward, key, protocol, reply, security, service, size


def judge(e: Evidence) -> list[Hop]:
    """Every hop of the way in its order."""
    return [hop for hop in _hops(e) if hop is not None]


def broken(hops: list[Hop]) -> Hop | None:
    """The first broken hop."""
    return next((h for h in hops if h.verdict == BROKEN), None)


def _hops(e: Evidence) -> Iterator[Hop | None]:
    yield lab_file(e)
    yield applied(e)
    yield guest(e)
    yield boot(e)
    if e.way == "user":
        yield forward(e)
    else:
        yield adapter(e)
        yield address(e)
        yield neighbour(e)
        yield route(e)
    yield service(e)
    yield protocol(e)
    yield security(e)
    yield key(e)
    yield certificate(e)
    yield size(e)
    if e.way == "kernel":
        yield reply(e)
        yield door_rule(e)
        yield forwarding(e)
    yield firewall(e)
    if e.way == "kernel":
        yield sources(e)
    if e.origin != "host" and e.way != "own":
        yield lan_address(e)
    if e.router:
        yield router(e, e.router)
        yield outside_address(e.router)
    yield door(e)
    yield names(e)
