"""Shell completion with the lab's own guests, networks and doors.

A shell asks by running dacha with the current command line in its environment; only the parser of that command is
built.
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from typing import Any

SHELLS = ("bash", "zsh", "fish")
# Placeholders of files in help texts; nothing else completes to file names.
_FILES = ("FILE", "IMAGE", "FOLDER", "FILE.png")


def completion_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Print the script that completes dacha's commands and the lab's names. To enable it, in bash:\n"
        '  eval "$(dacha completion bash)"              (in ~/.bashrc)\n'
        "  dacha completion zsh > ~/.zfunc/_dacha        (a folder of $fpath, before compinit)\n"
        "  dacha completion fish > ~/.config/fish/completions/dacha.fish"
    )
    parser.add_argument("shell", choices=SHELLS, help="the shell")


def run_completion(args: argparse.Namespace) -> int:
    from argcomplete.shell_integration import shellcode

    from dacha.cli.terminal import output

    output.say(shellcode(["dacha"], shell=args.shell).rstrip())
    return 0


def complete() -> None:
    """Answer the shell and exit; called only if the shell asks."""
    import argcomplete
    from argcomplete.completers import FilesCompleter, SuppressCompleter

    from dacha.cli.commands import COMMANDS, add_command

    line = os.environ.get("COMP_LINE", "")
    typed = line[: int(os.environ.get("COMP_POINT", len(line)))].split()[1:]
    named = [w for w in typed if not w.startswith("-")]
    parser = argparse.ArgumentParser(prog="dacha")
    commands = parser.add_subparsers()
    for command in COMMANDS:
        inner = commands.add_parser(command.name, help=command.help)
        if named and command.name == named[0]:
            add_command(inner, command.name)
            _give_completers(inner, FilesCompleter())
    argcomplete.autocomplete(parser, always_complete_options=False, default_completer=SuppressCompleter())


def _give_completers(parser: argparse.ArgumentParser, files: Any) -> None:
    """Let every argument complete according to its placeholder in the help."""
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for inner in action.choices.values():
                _give_completers(inner, files)
            continue
        word = str(action.metavar or "").strip("[]").rpartition("=")[2].strip("[]") or str(action.metavar or "")
        if hasattr(action, "completer"):
            continue
        if word in _FILES:
            action.completer = files  # type: ignore[attr-defined]  # read by the completion package
        elif word in _VALUES:
            action.completer = _VALUES[word]  # type: ignore[attr-defined]  # likewise


def _lab(parsed_args: argparse.Namespace | None = None) -> object:
    from dacha.core.errors import DachaError
    from dacha.engine.workspace import load

    try:
        return load(getattr(parsed_args, "lab", None)).lab
    except DachaError:
        return None


def guest_names(parsed_args: argparse.Namespace | None = None) -> list[str]:
    return list(getattr(_lab(parsed_args), "guests", {}))


def network_names(parsed_args: argparse.Namespace | None = None) -> list[str]:
    return list(getattr(_lab(parsed_args), "networks", {}))


def person_names(parsed_args: argparse.Namespace | None = None) -> list[str]:
    return list(getattr(_lab(parsed_args), "people", {}))


def door_names(parsed_args: argparse.Namespace | None = None) -> list[str]:
    found = getattr(_lab(parsed_args), "guests", {}).get(getattr(parsed_args, "guest", None))
    return [d.name for d in found.doors] if found else []


def share_names(parsed_args: argparse.Namespace | None = None) -> list[str]:
    found = getattr(_lab(parsed_args), "guests", {}).get(getattr(parsed_args, "guest", None))
    return [s.name for s in found.shares] if found else []


def lab_names(parsed_args: argparse.Namespace | None = None) -> list[str]:
    from dacha.engine.labs.kept_labs import homes

    return [home.lab for home in homes()]


def medium_names(parsed_args: argparse.Namespace | None = None) -> list[str]:
    from dacha.engine.media.media_store import Store

    return [kept.name for kept in Store(_lab(parsed_args)).all()]  # type: ignore[arg-type]  # a lab, or none


def _storages(parsed_args: argparse.Namespace | None) -> list[str]:
    return list(getattr(_lab(parsed_args), "storages", {}))


def _systems(parsed_args: argparse.Namespace | None) -> list[str]:
    from dacha.engine.profiles import profiles

    return sorted(profiles())


def _services(parsed_args: argparse.Namespace | None) -> list[str]:
    from dacha.core.lab.kinds import SERVICES

    return list(SERVICES)


def _asked(names: Callable[[argparse.Namespace | None], list[str]]) -> Callable[..., list[str]]:
    """A completer in the form of the completion package."""
    return lambda parsed_args=None, **_: names(parsed_args)


_VALUES: dict[str, Callable[..., list[str]]] = {
    "GUEST": _asked(guest_names),
    "NETWORK": _asked(network_names),
    "MEDIUM": _asked(medium_names),
    "PERSON": _asked(person_names),
    "PLACE": _asked(lambda parsed: ["host", "lan", "outside", *network_names(parsed)]),
    "host|lan|outside": lambda **_: ["host", "lan", "outside"],
    "GUEST[ DOOR]": _asked(guest_names),
    "STORAGE": _asked(_storages),
    "FAMILY": _asked(_systems),
    "NAME": lambda **_: [],
    "SERVICE": _asked(_services),
    "bios|uefi": lambda **_: ["bios", "uefi"],
    "MODEL": lambda **_: ["virtio", "e1000"],
}
