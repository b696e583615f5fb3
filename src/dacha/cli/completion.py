"""Shell completion that knows the lab's own guests, networks and doors.

To switch it on in bash: eval "$(register-python-argcomplete dacha)"
"""

from __future__ import annotations

import argparse


def complete() -> None:
    """Answer the shell and end the process; called only when the shell asks."""
    import argcomplete

    from dacha.cli.commands import COMMANDS, add_command

    parser = argparse.ArgumentParser(prog="dacha")
    commands = parser.add_subparsers()
    for command in COMMANDS:
        add_command(commands.add_parser(command.name, help=command.help), command.name)
    argcomplete.autocomplete(parser)


def _lab() -> object:
    from dacha.core.errors import DachaError
    from dacha.engine.workspace import load

    try:
        return load(None).lab
    except DachaError:
        return None


def guest_names() -> list[str]:
    return list(getattr(_lab(), "guests", {}))


def network_names() -> list[str]:
    return list(getattr(_lab(), "networks", {}))


def door_names(guest: str | None) -> list[str]:
    found = getattr(_lab(), "guests", {}).get(guest)
    return [d.name for d in found.doors] if found else []


def lab_names() -> list[str]:
    from dacha.engine.lab.kept_labs import homes

    return [home.lab for home in homes()]


def medium_names() -> list[str]:
    from dacha.engine.disks.media_store import Store

    return [kept.name for kept in Store(None).all()]
