"""How long a trace waits for an answer that somebody may still give: as long as that guest seems to need."""

from __future__ import annotations

from dacha.engine.workspace import Workspace

# For the first answer of an agent that runs, as QEMU says (seconds).
AGENT_S = 30.0
# Seconds: for a guest that runs on the processor, for one that is emulated; for each second that it took for an answer
# so far; at the least, and at the most.
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
    """Return how many seconds to wait for an answer. `wait_s` is what a person asked for, `slowest_s` the longest that
    an answer of this guest took so far. With `agent_runs` its agent runs and has not answered yet; with `works` it has
    reported that it works on the answer."""
    if wait_s is not None:
        return max(LEAST_S, wait_s)
    if works:
        return MOST_S
    if agent_runs and not slowest_s:
        return AGENT_S
    return min(MOST_S, (EMULATED_S if emulated(ws, guest) else USUAL_S) + SLOWER * slowest_s)


def emulated(ws: Workspace, guest: str) -> bool:
    """True for a guest that runs without the processor's help."""
    machine = ws.home.read(guest).machine
    return machine is not None and machine["accelerator"] == "tcg"
