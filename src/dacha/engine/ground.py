"""What this host adds to what the lab says about reach."""

from __future__ import annotations

import time

from dacha.core.outside import UNKNOWN
from dacha.core.reach import Ground
from dacha.engine import outside
from dacha.engine.sightings import networks_apart
from dacha.engine.workspace import Workspace
from dacha.host import links


def ground(ws: Workspace) -> Ground:
    """This host's address on the LAN, the networks whose guests it cannot reach itself, and what its router granted."""
    known = outside.read(ws.home) if outside.concerned(ws) else UNKNOWN
    return Ground(links.lan_address(), frozenset(networks_apart(ws)), known, time.time())
