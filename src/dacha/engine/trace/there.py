"""Enter the door from another machine, while the guest itself is still being queried."""

from __future__ import annotations

import time

from dacha.core.endpoint import Endpoint
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import ThereSeen
from dacha.engine.trace.asking import Asking
from dacha.host.facts import program
from dacha.host.probe.through_ssh import touch_from
from dacha.wire.probes import probe_for

# The minimum time for a login there (seconds).
LEAST_S = 9.0


def begin(machine: str | None, e: Evidence, until: float) -> Asking | None:
    """Start the test from that machine, if one is specified, until a moment of the monotonic clock; `end` takes the
    result."""
    if machine is None:
        return None
    asking, limit_s = Asking(), max(LEAST_S, until - time.monotonic())
    asking.ask({"there": lambda: _from_there(machine, e, limit_s)})
    return asking


def end(asking: Asking | None, machine: str | None, e: Evidence, until: float) -> Evidence:
    """The evidence with that machine's result."""
    if asking is None or machine is None:
        return e
    asking.wait(max(LEAST_S - asking.took_s, until - time.monotonic()) + 0.3)
    late = asking.unanswered().get("there", "no answer in time")
    return e._replace(there=asking.told().get("there") or ThereSeen(machine, None, late))


def _from_there(machine: str, e: Evidence, limit_s: float) -> ThereSeen:
    ssh = program("ssh")
    if ssh is None:
        return ThereSeen(machine, None, "ssh is not installed")
    to = e.place
    if e.origin == "outside" and e.router and e.router.address:
        to = Endpoint(e.router.address, e.router.port)
    if to is None:
        return ThereSeen(machine, None, "the door has no address")
    return touch_from(ssh, machine, to.address, to.port, probe_for(e.service), limit_s)
