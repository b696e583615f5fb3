"""Running guests that a change would disconnect from their network: warnings and confirmation."""

from __future__ import annotations

import argparse
from collections.abc import Collection
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def warn(ws: Workspace, first: str, changes: Any = None, seen: Any = None) -> bool:
    """Print which running guests would be disconnected, after the words `first`; False if none would be."""
    if not any(n.by_kernel for n in ws.lab.networks.values()) and not ws.home.kernel_note.exists():
        return False  # no kernel network exists
    from dacha.core.apply.waiting import cut_off, cut_off_words
    from dacha.engine.apply.pending import pending_changes
    from dacha.engine.guest.observe import observe

    seen = seen or observe(ws.home, ws.lab.guests)
    found = cut_off(pending_changes(ws, seen) if changes is None else changes, seen, ws.lab.guests)
    if found:
        output.note(f"warning: {first}{cut_off_words(found)}\n  dacha restart {' '.join(found)}")
    return bool(found)


def option(parser: argparse.ArgumentParser) -> None:
    """The option of commands that ask."""
    parser.add_argument(
        "--yes", action="store_true", help="do not ask before running guests are disconnected from their network"
    )


def refuse_unapplied(ws: Workspace, names: Collection[str]) -> None:
    """Refuse to start guests on kernel networks that differ from the lab file: `start` does not change networks,
    because of other guests on them. Raises UsageError, LabError."""
    from dacha.core.errors import UsageError
    from dacha.engine.scoped import unapplied_networks

    ws.refuse_if_wrong()
    if networks := unapplied_networks(ws, names):
        raise UsageError(
            f"network {networks[0]} was changed in {ws.path.name} since the last apply",
            why="a guest that starts now would get an address of the new network on the old one",
            remedy="dacha apply",
        )


def offer_kept(args: argparse.Namespace) -> None:
    """On a terminal, offer a guest that is in the lab file again the disks that were kept of it. Else it is refused, as
    a script cannot know whether it is the same guest."""
    import sys

    from dacha.engine.disks import kept_disks
    from dacha.engine.workspace import load

    if not sys.stdin.isatty() or args.json:
        return
    ws = load(args.lab)
    for name, disks in kept_disks.returning(ws).items():
        output.note(f"{name} is in the lab file again, as it was. Its disks were kept:")
        for disk in disks:
            output.note(f"  disk {disk.name}: {disk}")
        if arguments.agreed(f"Use {'it' if len(disks) == 1 else 'them'} again?"):
            with ws.home.lock("apply", ws.path, lambda holder: output.note(f"waiting for {holder}")):
                kept_disks.take(ws.home, name)


def ask_first(args: argparse.Namespace) -> None:
    """Ask before guests are disconnected, unless an option says otherwise. Raises UsageError for a no, and without a
    terminal."""
    from dacha.engine.workspace import load

    ws = load(args.lab)
    ws.refuse_if_wrong()
    if args.yes or ws.other_file():
        return  # a copy of the lab file is refused in a moment
    if warn(ws, ""):
        arguments.confirm("Apply it now?", "--yes, or stop these guests first", "nothing was changed")
