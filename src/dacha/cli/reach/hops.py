"""A hop of a path, for people."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from dacha.cli.terminal import output


def show_hop(hop: Any, shown: Mapping[str, str]) -> None:
    """Print a hop: what was seen, and if it is broken, what that means and what to do. `shown` maps hops to their
    readable names."""
    from dacha.core.trace.hop import ASIDE, BROKEN, FINE

    word = {BROKEN: "BROKEN", FINE: "fine", ASIDE: "warning"}.get(hop.verdict, "?")
    shade = {BROKEN: output.BAD, FINE: output.GOOD}.get(hop.verdict, output.DIM)
    output.hang(f"  {output.paint(f'{word:<7}', shade)}   {shown[hop.name]:<12} ", hop.seen, 25)
    if hop.verdict in (BROKEN, ASIDE):
        if hop.means:
            output.hang(f"            {'means':<12} ", hop.means, 25)
        for n, line in enumerate(hop.remedy.splitlines()):
            output.say(f"            {'remedy' if n == 0 else '':<12} {line}")
