"""dacha guest compact: the space that guests no longer use, given to this host."""

from __future__ import annotations

import argparse
from functools import partial
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.core.errors import DachaError
    from dacha.engine.states.compacting import Compacted


def compact_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Free space of this host that guests' disks take, and their systems no longer use. A running guest trims its\n"
        "file systems, by its guest agent or a login; the images of one that is off are written again."
    )
    arguments.guests(parser, "guests to compact")
    parser.add_argument("--all", action="store_true", help="every guest of the lab")


def run_compact(args: argparse.Namespace) -> int:
    """Exit code 1 if a guest could not be compacted."""
    from dacha.cli.terminal.progress import share_bar
    from dacha.core.units import show_size
    from dacha.engine.power.power import choose
    from dacha.engine.states.compacting import Compacted, compact_all
    from dacha.engine.workspace import load

    ws = load(args.lab)
    ws.refuse_if_wrong()
    names = choose(ws.lab.guests, args.guests, args.all)
    if args.all:
        names = [name for name in names if ws.home.disks(name)]
    found: list[tuple[str, Compacted | DachaError]] = []

    def show(name: str, made: Compacted | DachaError) -> None:
        if not isinstance(made, Compacted):
            output.note(made.message())
            return
        how = f"trimmed by {made.by}" if made.by else "its images were written again"
        freed = show_size(max(0, made.before - made.after))
        output.step(f"guest {name}", f"{freed} freed, {show_size(made.after)} in use: {how}")
        for text in made.left:
            output.note(f"note: {text}")

    lock = partial(ws.home.lock, "guest compact", ws.path, lambda holder: output.note(f"waiting for {holder}"))
    with share_bar() as bar:
        fine = compact_all(ws, names, lock, bar, lambda name, made: found.append((name, made)))
    if args.json:
        output.emit_json({"lab": ws.lab.name, "guests": [_json(name, made) for name, made in found]})
        return 0 if fine else 1
    # After the progress bar is gone: it would share a line with them.
    for name, made in found:
        show(name, made)
    return 0 if fine else 1


def _json(name: str, made: Compacted | DachaError) -> dict[str, Any]:
    from dacha.engine.states.compacting import Compacted

    if not isinstance(made, Compacted):
        return {
            "guest": name,
            "freed_bytes": 0,
            "stored_bytes": None,
            "by": None,
            "left": [],
            "why": " / ".join(made.lines()),
        }
    return {
        "guest": name, "freed_bytes": max(0, made.before - made.after), "stored_bytes": made.after,
        "by": made.by or "this host", "left": list(made.left), "why": None,
    }  # fmt: skip
