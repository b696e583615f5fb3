"""The commands: a table of them, and what their parsers have in common."""

from __future__ import annotations

import argparse
import os
from importlib import import_module
from typing import Any, NoReturn

from dacha.core.errors import UsageError

# Group, command, module, what it does. A module is imported only when one of its commands runs.
COMMANDS = (
    ("The lab", "new", "lab.lab", "start a lab file"),
    ("The lab", "check", "lab.lab", "say what is wrong with the lab, and with this host for it"),
    ("The lab", "diff", "lab.lab", "show what apply would do"),
    ("The lab", "apply", "lab.apply", "make this host match the lab"),
    ("The lab", "status", "reach.status", "show guests, doors, and whether each door answers"),
    ("The lab", "reach", "reach.reach", "show who can reach what, by which path, or why not"),
    ("The lab", "trace", "reach.trace", "walk the way to a guest hop by hop, and name the broken one"),
    ("The lab", "map", "reach.map", "draw the lab, in the terminal or as SVG or PNG"),
    ("The lab", "probe", "reach.probe", "ask one port whether it speaks its protocol, without a lab"),
    ("The lab", "host", "lab.host", "show what this host has, lacks and has promised"),
    ("The lab", "demo", "demo", "run the saltmarsh demonstration"),
    ("Guest power", "start", "guest.power", "start guests"),
    ("Guest power", "stop", "guest.power", "stop guests by their power button"),
    ("Guest power", "restart", "guest.power", "stop guests and start them again"),
    ("Guest power", "pause", "guest.power", "hold guests' processors"),
    ("Guest power", "resume", "guest.power", "let paused guests go on"),
    ("Getting in", "connect", "access.connect", "enter a guest by SSH, or run a command in it"),
    ("Getting in", "console", "access.console", "attach to a guest's serial console"),
    ("Getting in", "screen", "access.screen", "see, photograph and type on a guest's display"),
    ("Editing lab.toml", "guest", "guest.guest", "add, edit, remove, list, show guests"),
    ("Editing lab.toml", "network", "network", "add, edit, remove, list, show networks"),
    ("Editing lab.toml", "door", "door", "add, edit, remove, list doors"),
    ("Editing lab.toml", "media", "media", "keep installer media and images, put them into guests"),
    ("Editing lab.toml", "address", "address", "list addresses, propose a free one"),
    ("Service", "lab", "lab.labs", "list, show, remove and move what is kept of labs on this host"),
    ("Service", "caretaker", "caretaker", "run, look at and stop the process that looks after a lab's networks"),
)
MODULES = {command: module for _, command, module, _ in COMMANDS}
# Commands that are followed by an action, which brings its own function to run.
GROUPS = {"lab", "guest", "network", "door", "address", "media", "caretaker"}


class Help(argparse.RawDescriptionHelpFormatter):
    """argparse's, with the width read once and plainly: its own way loads a file-copying module at every start."""

    def __init__(self, prog: str, **options: Any) -> None:
        try:
            width = int(os.environ.get("COLUMNS", "")) if os.environ.get("COLUMNS") else os.get_terminal_size(1).columns
        except (OSError, ValueError):
            width = 100
        super().__init__(prog, width=max(60, min(width, 120) - 2), **options)


class Parser(argparse.ArgumentParser):
    """argparse, with refusals in our own form."""

    def __init__(self, *arguments: Any, **options: Any) -> None:
        options.setdefault("formatter_class", Help)
        super().__init__(*arguments, **{"allow_abbrev": False, **options})

    def error(self, message: str) -> NoReturn:
        raise UsageError(message[:1].lower() + message[1:], where=self.prog, remedy=f"see: {self.prog} --help")


def common(parser: argparse.ArgumentParser, *, json: bool = True) -> None:
    """The options that every command has."""
    parser.add_argument("--lab", metavar="FILE", help="the lab file (else $DACHA_LAB, else lab.toml here or above)")
    if json:
        parser.add_argument("--json", action="store_true", help="print JSON for a script")
    parser.add_argument("--debug", action="store_true", help="show a traceback with an error")


def many(parser: argparse.ArgumentParser, flag: str, dest: str, metavar: str, what: str) -> None:
    """An option that may be said more than once; what was said is a list."""
    parser.add_argument(flag, dest=dest, metavar=metavar, action="append", default=[], help=what)


def unset_argument(parser: argparse.ArgumentParser) -> None:
    """The option of every `edit` that takes a value out of the file."""
    parser.add_argument(
        "--unset", metavar="KEY", action="append", default=[], help="take this key out of the file: as usual again"
    )


def add_command(parser: argparse.ArgumentParser, command: str) -> None:
    """Give `parser` the arguments of `command`, and the function that runs it."""
    module = import_module(f"dacha.cli.{MODULES[command]}")
    getattr(module, f"{command}_arguments")(parser)
    if command not in GROUPS:
        parser.set_defaults(run=getattr(module, f"run_{command}"))
