"""What this host adds to what the lab says about reach."""

from __future__ import annotations

import time

from dacha.core.reach.reach import Ground
from dacha.core.router.mapping import UNKNOWN
from dacha.engine.network.live import networks_apart
from dacha.engine.router import keep as outside
from dacha.engine.workspace import Workspace
from dacha.host.network import addresses as links


def ground(ws: Workspace) -> Ground:
    """This host's address on the LAN, the networks whose guests it cannot reach itself, and what its router granted."""
    known = outside.read(ws.home) if outside.concerned(ws) else UNKNOWN
    return Ground(links.lan_address(), frozenset(networks_apart(ws)), known, time.time())
