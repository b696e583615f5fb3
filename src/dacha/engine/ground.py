"""What this host adds to what the lab says about reach."""

from __future__ import annotations

from dacha.core.reach import Ground
from dacha.engine.status import networks_apart
from dacha.engine.workspace import Workspace
from dacha.host import links


def ground(ws: Workspace) -> Ground:
    """This host's address on the LAN, and the networks whose guests it cannot reach itself."""
    return Ground(links.lan_address(), frozenset(networks_apart(ws)))
