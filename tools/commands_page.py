"""Writes docs/commands.md, the reference of all commands, from their parsers: `make commands`."""

from __future__ import annotations

import argparse
import importlib
from itertools import groupby
from pathlib import Path

from dacha.cli.commands import COMMANDS, Command
from dacha.cli.main import parser_for

PAGE = Path(__file__).parent.parent / "docs/commands.md"
HEAD = """\
# Commands

Written by `make commands` from the program itself. Every command also has `--help`, and `--debug` to show a traceback
with an error. Commands with `--json` print one object for scripts: see [JSON](json.md). The lab file is `--lab FILE`,
else `$DACHA_LAB`, else `lab.toml` here or in a folder above, else `~/.config/dacha/lab.toml`. Exit codes: 0 success;
1 the answer is no (a door does not answer, a guest does not stop); 2 wrong usage, or the lab file has errors; 3 this
host refused.
"""
COMMON = ("help", "lab", "json", "debug")


def page() -> str:
    """The whole page, in Markdown."""
    parts = [HEAD]
    for group, commands in groupby(COMMANDS, key=lambda command: command.group):
        parts.append(f"## {group}\n")
        parts += [_command(command) for command in commands]
    return "\n".join(parts).rstrip() + "\n"


def _command(command: Command) -> str:
    parser = parser_for(command.name)
    if command.example:
        return f"### dacha {command.name}\n{_sentence(command.help)}\n{_rows(parser, command.example)}"
    module = importlib.import_module(f"dacha.cli.{command.module}")
    inner = next(a for a in parser._actions if isinstance(a, argparse._SubParsersAction))
    rows = [
        f"#### dacha {command.name} {action.name}\n{_sentence(action.help)}\n"
        + _rows(inner.choices[action.name], action.example)
        for action in module.ACTIONS
    ]
    return "\n".join([f"### dacha {command.name}\n{_sentence(command.help)}\n", *rows])


def _sentence(text: str) -> str:
    return _plain(text[:1].upper() + text[1:]).rstrip(".") + "."


def _rows(parser: argparse.ArgumentParser, example: str) -> str:
    """The example, then a table of arguments and options."""
    rows = [(_form(action), _plain(action.help or "")) for action in parser._actions if action.dest not in COMMON]
    table = [f"| `{form}` | {text} |" for form, text in rows]
    head = ["| argument | meaning |", "|---|---|"] if table else []
    return "\n".join(["", "```", example, "```", *head, *table, ""])


def _form(action: argparse.Action) -> str:
    """An argument as it is typed: --size SIZE, GUEST."""
    value = action.metavar if isinstance(action.metavar, str) else ""
    if not value and action.choices:
        value = ",".join(str(choice) for choice in action.choices)
    if not action.option_strings:
        return value or action.dest.upper()
    return f"{', '.join(action.option_strings)} {value if action.nargs != 0 else ''}".rstrip().replace("|", "/")


def _plain(text: str) -> str:
    return text.replace("%%", "%").replace("|", "\\|").replace("<", "&lt;")


if __name__ == "__main__":
    PAGE.write_text(page())
