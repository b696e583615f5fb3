"""This host's contribution to reach."""

from __future__ import annotations

import time

from dacha.core.reach.reach import HostView
from dacha.core.router.mapping import UNKNOWN
from dacha.engine.network.live import networks_apart
from dacha.engine.router import mappings
from dacha.engine.workspace import Workspace
from dacha.host.network import addresses


def host_view(ws: Workspace) -> HostView:
    """This host's LAN address, the networks whose guests it cannot reach itself, and what its router granted."""
    known = mappings.read(ws.home) if mappings.uses_router(ws) else UNKNOWN
    return HostView(addresses.lan_address(), frozenset(networks_apart(ws)), known, time.time())
