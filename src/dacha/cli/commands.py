"""The table of commands, and the common parts of their parsers."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from importlib import import_module
from typing import Any, NoReturn

from dacha.core.errors import UsageError
from dacha.core.named import NamedTuple

# All texts are in English: looking for argparse's translations would import the locale module and search folders, at
# every command.
argparse._ = str  # type: ignore[attr-defined]


class Command(NamedTuple):
    """A command: its group in the help, its name, the module with its arguments and functions, a description, and an
    example; one without an example is followed by an action of its module. A module is imported only when one of its
    commands runs."""

    group: str
    name: str
    module: str
    help: str
    example: str = ""
    common: str = "lab json debug"


class Action(NamedTuple):
    """An action of a command: its name, a description, an example, the function that adds its arguments, and the one
    that runs it; `common` lists its common options."""

    name: str
    help: str
    example: str
    arguments: Callable[[argparse.ArgumentParser], None]
    run: Callable[[argparse.Namespace], int]
    common: str = "lab json debug"


COMMANDS = (
    Command("The lab", "new", "lab.lab", "create a lab file", "dacha new saltmarsh"),
    Command("The lab", "check", "lab.lab", "check the lab file, and this host for it", "dacha check"),
    Command("The lab", "diff", "lab.lab", "show what apply would do", "dacha diff"),
    Command("The lab", "apply", "lab.apply", "make this host match the lab", "dacha apply"),
    Command(
        "The lab", "status", "reach.status", "show guests, doors, and whether each door answers", "dacha status --watch"
    ),
    Command(
        "The lab",
        "reach",
        "reach.reach",
        "show who can reach what, by which path, or why not",
        "dacha reach gauge --from lan",
    ),
    Command(
        "The lab",
        "trace",
        "reach.trace",
        "test the path to a guest hop by hop, and name the broken hop",
        "dacha trace gauge ssh --from lan",
    ),
    Command(
        "The lab",
        "log",
        "lab.log",
        "show what happened: changes, starts, ends and their reasons",
        'dacha log gauge --since "2 h"',
    ),
    Command(
        "The lab", "map", "reach.map", "draw the lab, in the terminal or as SVG or PNG", "dacha map --save lab.svg"
    ),
    Command(
        "The lab",
        "probe",
        "reach.probe",
        "check whether a port speaks the expected protocol (no lab needed)",
        "dacha probe 192.0.2.10:2210 --as ssh",
    ),
    Command(
        "The lab", "host", "lab.host", "show the host's resources, what is missing, and what labs reserve", "dacha host"
    ),
    Command("The lab", "demo", "demo", "run the saltmarsh demonstration", "dacha demo --keep", common="debug"),
    Command("Guest power", "start", "guest.power", "start guests", "dacha start gauge"),
    Command("Guest power", "stop", "guest.power", "stop guests by their power button", "dacha stop gauge"),
    Command("Guest power", "restart", "guest.power", "stop guests and start them again", "dacha restart gauge"),
    Command("Guest power", "pause", "guest.power", "suspend guests (their virtual CPUs stop)", "dacha pause gauge"),
    Command("Guest power", "resume", "guest.power", "resume paused guests", "dacha resume gauge"),
    Command("Guest power", "snapshot", "states.snapshot", "take, list, restore, remove snapshots of guests"),
    Command(
        "Getting in",
        "connect",
        "access.connect",
        "connect to a guest by SSH, or run a command in it",
        "dacha connect gauge -- uname -a",
    ),
    Command(
        "Getting in",
        "console",
        "access.console",
        "attach to a guest's serial console",
        "dacha console gauge",
        common="lab debug",
    ),
    Command(
        "Getting in",
        "screen",
        "access.screen",
        "view a guest's display, save a picture of it, type on it",
        "dacha screen gauge --save gauge.png",
    ),
    Command(
        "Getting in",
        "handout",
        "access.handout",
        "create a folder with all that a person needs to connect",
        "dacha handout --from lan",
    ),
    Command("Editing lab.toml", "guest", "guest.guest", "add, edit, rename, remove, list, show guests"),
    Command("Editing lab.toml", "network", "network", "add, edit, remove, list, show networks"),
    Command("Editing lab.toml", "door", "door", "add, edit, remove, list doors"),
    Command("Editing lab.toml", "share", "share", "add, edit, remove, list shared folders"),
    Command("Editing lab.toml", "person", "person", "add, edit, remove, list, show people and their access"),
    Command("Editing lab.toml", "key", "key", "show and renew the lab's own key"),
    Command("Editing lab.toml", "media", "media.media", "store installer media and images, insert them into guests"),
    Command("Editing lab.toml", "address", "address", "list addresses, propose a free one"),
    Command("Service", "lab", "lab.labs", "list, show, remove, rename and move labs on this host"),
    Command(
        "Service",
        "completion",
        "completion",
        "print the completion script for a shell",
        "dacha completion bash",
        common="debug",
    ),
    Command("Service", "caretaker", "caretaker", "run, inspect and stop the process that serves a lab's networks"),
)
BY_NAME = {command.name: command for command in COMMANDS}


class Help(argparse.RawDescriptionHelpFormatter):
    """argparse's formatter, with a simple lookup of the width: the original imports a file-copying module at every
    start."""

    def __init__(self, prog: str, **options: Any) -> None:
        try:
            width = int(os.environ.get("COLUMNS", "")) if os.environ.get("COLUMNS") else os.get_terminal_size(1).columns
        except (OSError, ValueError):
            width = 100
        super().__init__(prog, width=max(60, min(width, 120) - 2), **options)


class Parser(argparse.ArgumentParser):
    """argparse's parser, with errors in our own form."""

    def __init__(self, *arguments: Any, **options: Any) -> None:
        options.setdefault("formatter_class", Help)
        super().__init__(*arguments, **{"allow_abbrev": False, **options})

    def parse_args(self, args: Any = None, namespace: Any = None) -> Any:
        """Everything after "--" belongs to the guest's command, whichever options come before it (argparse leaves such
        a list empty as soon as an option is in between)."""
        takes = any(action.dest == "command" for action in self._actions)
        own = args[: args.index("--")] if takes and "--" in args else args
        found = super().parse_args(own, namespace)
        if own is not args:
            found.command = [*found.command, *args[len(own) + 1 :]]
        return found

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        """Unknown arguments are an error of the command or action that they were given to, whose help shows what it
        accepts; argparse would report them for the whole command."""
        found, unknown = super().parse_known_args(args, namespace)
        if unknown:
            from dacha.core.spelling import nearest

            first = str(unknown[0]).partition("=")[0]
            known = [o[2:] for o in self._option_string_actions if o.startswith("--")]
            close = nearest(first[2:], known) if first.startswith("--") else None
            hint = f"did you mean --{close}? " if close else ""
            kind = "option" if first.startswith("-") else "argument"
            if any(action.dest == "command" for action in self._actions) and not hint:
                hint = "write -- before the guest's command; "
            raise UsageError(f"unknown {kind} {first}", where=self.prog, remedy=f"{hint}see: {self.prog} --help")
        return found, unknown

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        """An unknown action or word is an error with the most similar one, or with all."""
        if action.choices is not None and value not in action.choices:
            from dacha.core.spelling import did_you_mean

            what = "action" if isinstance(action, argparse._SubParsersAction) else "value"
            place = f"{'/'.join(action.option_strings)}: " if action.option_strings else ""
            remedy = did_you_mean(str(value), map(str, action.choices))
            raise UsageError(f"{place}unknown {what} {value}", where=self.prog, remedy=remedy)

    def _get_value(self, action: argparse.Action, text: str) -> Any:
        """The value of an argument; argparse names its type as Python does."""
        try:
            return super()._get_value(action, text)  # type: ignore[misc]
        except argparse.ArgumentError as e:
            if action.type is not int:
                raise
            name = e.argument_name or action.dest
            remedy = f"see: {self.prog} --help"
            raise UsageError(f"{name}: {text!r} is not a whole number", where=self.prog, remedy=remedy) from None

    def error(self, message: str) -> NoReturn:
        message = message.removeprefix("argument ")
        raise UsageError(message[:1].lower() + message[1:], where=self.prog, remedy=f"see: {self.prog} --help")


def common(parser: argparse.ArgumentParser, which: str) -> None:
    """The options that commands share."""
    if "lab" in which:
        parser.add_argument("--lab", metavar="FILE", help="the lab file (else $DACHA_LAB, else lab.toml here or above)")
    if "json" in which:
        parser.add_argument("--json", action="store_true", help="print JSON for a script")
    parser.add_argument("--debug", action="store_true", help="show a traceback with an error")


def nothing(parser: argparse.ArgumentParser) -> None:
    """For an action without arguments of its own."""


def add_command(parser: argparse.ArgumentParser, name: str) -> None:
    """Add the arguments of a command to `parser`, and the function that runs it."""
    command = BY_NAME[name]
    module = import_module(f"dacha.cli.{command.module}")
    getattr(module, f"{name}_arguments")(parser)
    if command.example:
        parser.epilog = f"example: {command.example}"
        common(parser, command.common)
        parser.set_defaults(run=getattr(module, f"run_{name}"))
        return
    actions = parser.add_subparsers(metavar="ACTION", parser_class=Parser)

    def unnamed(_: argparse.Namespace) -> NoReturn:
        raise UsageError(
            "no action specified", where=parser.prog,
            remedy=f"choose one: {', '.join(actions.choices)}; see: {parser.prog} --help",
        )  # fmt: skip

    parser.set_defaults(run=unnamed)
    for row in module.ACTIONS:
        action = actions.add_parser(row.name, help=row.help, epilog=f"example: {row.example}")
        row.arguments(action)
        common(action, row.common)
        action.set_defaults(run=row.run)
