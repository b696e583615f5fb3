"""How long a trace waits for pending answers: as long as the guest seems to need."""

from __future__ import annotations

from dacha.engine.workspace import Workspace

# For the first answer of a running agent (seconds).
AGENT_S = 30.0
# Seconds: for a guest with hardware virtualization, for an emulated one; for each second that an answer took so far;
# the minimum and the maximum.
USUAL_S, EMULATED_S, SLOWER, LEAST_S, MOST_S = 8.0, 20.0, 10.0, 3.0, 60.0


def patience_s(
    ws: Workspace,
    guest: str,
    wait_s: float | None,
    slowest_s: float,
    *,
    agent_runs: bool = False,
    works: bool = False,
) -> float:
    """Return how many seconds to wait for an answer. `wait_s` is the user's limit, `slowest_s` the longest time for an
    answer of this guest so far. With `agent_runs` its agent runs and has not answered yet; with `works` it has reported
    that it works on the answer."""
    if wait_s is not None:
        return max(LEAST_S, wait_s)
    if works:
        return MOST_S
    if agent_runs and not slowest_s:
        return AGENT_S
    return min(MOST_S, (EMULATED_S if emulated(ws, guest) else USUAL_S) + SLOWER * slowest_s)


def emulated(ws: Workspace, guest: str) -> bool:
    """True for a guest without hardware virtualization."""
    machine = ws.home.read(guest).machine
    return machine is not None and machine["accelerator"] == "tcg"
