"""A remedy that trace prints is a promise: what in it is a command is carried out word for word."""

from __future__ import annotations

import shlex

from dacha.cli.main import parser_for, split
from dacha.core.errors import DachaError
from dacha.core.named import NamedTuple

ON_CONSOLE = ", then as root: "


class Step(NamedTuple):
    """A command: typed on a guest's console as root, or (`guest` empty) on the host."""

    guest: str
    command: str


def steps(remedy: str) -> list[Step]:
    """What of a remedy is to be typed: its first line, where that is one command or several with "then" between;
    nothing where it is words. A command is what this program takes: a word too much, and it is none."""
    first = remedy.partition("\n")[0]
    console, _, typed = first.partition(ON_CONSOLE)
    if typed:
        words = console.split()
        assert words[:2] == ["dacha", "console"] and len(words) == 3, remedy
        return [Step(words[2], typed)]
    if ", then: " in first:
        return []  # words, not a command
    pieces = first.split(", then ")
    return [Step("", piece) for piece in pieces] if all(map(_is_command, pieces)) else []


def _is_command(text: str) -> bool:
    try:
        program, *words = shlex.split(text)
        if program in ("ip", "sysctl"):
            return program == "sysctl" or words[1:2] in (["set"], ["delete"])  # else it is a look
        before, command, after = split(words)
        if program != "dacha" or command is None or "…" in words or command in ("console", "network", "trace"):
            return False  # a look is no mend
        parser_for(command).parse_args([*before, *after])
    except (DachaError, ValueError, KeyError):
        return False
    return True
