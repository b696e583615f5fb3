"""What apply, start and restart wait for: doors, first boots, and guests that others wait for."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any

from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def await_guests(report: Any) -> Any:
    """Wait for the doors of a guest before those that are started after it."""
    from dacha.engine.reach.ready import await_ready

    def ready(ws: Workspace, name: str) -> None:
        began = time.monotonic()
        words = (
            "its doors respond" if await_ready(ws, name) else "its doors do not respond in time: the next guests start"
        )
        report(f"guest {name}", words, time.monotonic() - began)

    return ready


def set_clocks(ws: Workspace, names: list[str], report: Any, *, login_s: float) -> None:
    """Set the clocks of guests that stood still; what prevents it is a warning, as the guests run."""
    from dacha.core.errors import AnswerNo
    from dacha.engine.inside.clock import set_clock

    failed: dict[str, AnswerNo] = {}
    for name in names:
        began = time.monotonic()
        try:
            report(f"guest {name}", set_clock(ws, name, login_s).words(), time.monotonic() - began)
        except AnswerNo as e:
            failed[name] = e
    if failed:
        first, *others = failed
        output.note("warning: " + failed[first].message().removeprefix("error: "))
        if others:
            output.note(f"  the same for {', '.join(others)}")


def wait_for_doors(ws: Workspace, doors: list[Any], timeout_s: float, *, quiet: bool) -> list[tuple[Any, str]]:
    """Wait for these doors; returns those that did not respond, with what was seen."""
    from dacha.cli.terminal.progress import waiting_line
    from dacha.engine.console import last_words
    from dacha.engine.reach.doors import wait_for
    from dacha.engine.reach.opening import GuestWatcher
    from dacha.host.network.addresses import lan_address

    class Shown(GuestWatcher):
        """Reports each door as it opens, and the latest console output of the first guest that is waited for."""

        def open(self, door: Any, after_s: float) -> None:
            if not quiet:
                with line.aside():
                    output.step(f"door {door.door.guest} {door.door.name}", "open", f"after {after_s:.1f} s")

        def tick(self, waiting: list[Any]) -> None:
            if not line.due():
                return
            named = ", ".join(f"{d.door.guest} {d.door.name}" for d in waiting[:4])
            more = f" and {len(waiting) - 4} more" if len(waiting) > 4 else ""
            words = last_words(self.ws.home, waiting[0].door.guest)
            line.show(f"waiting for {named}{more}" + (f"; {waiting[0].door.guest}: {words}" if words else ""))

    with waiting_line(quiet=quiet) as line:
        silent = wait_for(doors, timeout_s, lan_address(), Shown(ws))
    return [(door, verdict.seen) for door, verdict in silent.items()]


def wait_for_first_boots(ws: Workspace, outcome: Any, until: float, *, quiet: bool) -> list[dict[str, Any]]:
    """Wait until started guests with a setup have completed their first boot; returns those that failed, and the failed
    parts."""
    from dacha.cli.terminal.progress import waiting_line
    from dacha.core.apply.changes import StartGuest
    from dacha.core.lab.setup import NO_SETUP
    from dacha.engine.console import first_boot, last_words
    from dacha.engine.inside.setup import doubt

    started = [c.guest for c in outcome.done if isinstance(c, StartGuest)]
    waited = [n for n in started if ws.lab.guests[n].first_boot and ws.lab.guests[n].setup != NO_SETUP]
    failed: list[dict[str, Any]] = []
    with waiting_line(quiet=quiet) as line:
        while waited:
            states = {name: first_boot(ws.home, name) for name in waited}
            for name, state in states.items():
                if state.state == "done" and not quiet:
                    with line.aside():
                        output.step(f"guest {name}", "first boot done")
                elif state.state == "failed":
                    failed.append({"guest": name, "failed_at": list(state.failed_at)})
                    doubt(ws, name)
                    with line.aside():
                        output.note(f"guest {name}: {state.words}\n  its output: dacha console {name} --record")
            # A guest whose console does not show its first boot is not waited for.
            waited = [name for name in waited if states[name].state == "running"]
            if time.monotonic() > until:
                break
            if waited and line.due():
                line.show(f"waiting for the first boot of {', '.join(waited)}; {last_words(ws.home, waited[0])}")
            time.sleep(0.5 if waited else 0)
    for name in waited:
        so_far = ", ".join(states[name].failed_at)
        output.note(
            f"guest {name} is still in its first boot{f', failed so far: {so_far}' if so_far else ''}; dacha "
            "status shows when it is done"
        )
    return failed
