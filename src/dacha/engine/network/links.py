"""The links that a lab needs on this host."""

from __future__ import annotations

from dacha.core.network.links import KernelPlan, kernel_plan
from dacha.core.plan.plan import Plan
from dacha.engine.workspace import Workspace
from dacha.host.network import iproute, sysctls


def wanted_links(ws: Workspace, plan: Plan) -> KernelPlan:
    """The lab's links as they should be. Raises HostError."""
    # A bridge network's interface may be a bridge or an adapter: only the host knows.
    interfaces = {n.interface for n in ws.lab.networks.values() if n.kind == "bridge"}
    wired = {name for name, link in iproute.links().items() if link.kind != "bridge"} if interfaces else set()
    return kernel_plan(ws.lab, plan, wired & interfaces, ipv6=sysctls.has_ipv6())
