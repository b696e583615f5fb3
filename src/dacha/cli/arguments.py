"""Kinds of arguments: guests, doors, networks on a command line, with their completion."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import Any

from dacha.core.errors import BadValue, UsageError


def _completed(argument: argparse.Action, names: Callable[..., list[str]]) -> None:
    """Let the shell complete an argument from names that are looked up only on request."""
    argument.completer = names  # type: ignore[attr-defined]  # read by the completion package


def _names(kind: str) -> Callable[..., list[str]]:
    def look(parsed_args: argparse.Namespace | None = None, **_: Any) -> list[str]:
        from dacha.cli import completion

        return list(getattr(completion, f"{kind}_names")(parsed_args))

    return look


def _doors_of(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    from dacha.cli.completion import door_names

    return door_names(parsed_args)


def _shares_of(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    from dacha.cli.completion import share_names

    return share_names(parsed_args)


def guest(
    parser: argparse.ArgumentParser, dest: str = "guest", *, optional: bool = False, what: str = "name of the guest"
) -> None:
    """One guest."""
    _completed(parser.add_argument(dest, metavar="GUEST", nargs="?" if optional else None, help=what), _names("guest"))


def guests(parser: argparse.ArgumentParser, what: str = "guests to act on") -> None:
    """Any number of guests."""
    _completed(parser.add_argument("guests", metavar="GUEST", nargs="*", help=what), _names("guest"))


def door(parser: argparse.ArgumentParser, dest: str = "name", *, optional: bool = False) -> None:
    """A guest, and one of its doors."""
    guest(parser)
    what = "name of the door (default: ssh, or the guest's first)" if optional else "name of the door"
    _completed(parser.add_argument(dest, metavar="DOOR", nargs="?" if optional else None, help=what), _doors_of)


def share(parser: argparse.ArgumentParser) -> None:
    """A guest, and one of its shared folders."""
    guest(parser)
    _completed(parser.add_argument("name", metavar="SHARE", help="name of the share"), _shares_of)


def network(
    parser: argparse.ArgumentParser, dest: str = "name", *, optional: bool = False, what: str = "name of the network"
) -> None:
    """One network."""
    argument = parser.add_argument(dest, metavar="NETWORK", nargs="?" if optional else None, help=what)
    _completed(argument, _names("network"))


def medium(parser: argparse.ArgumentParser, *, optional: bool = False, what: str = "short name of the medium") -> None:
    """One medium."""
    argument = parser.add_argument("name", metavar="MEDIUM", nargs="?" if optional else None, help=what)
    _completed(argument, _names("medium"))


def person(parser: argparse.ArgumentParser) -> None:
    """One person."""
    _completed(parser.add_argument("name", metavar="PERSON", help="name of the person"), _names("person"))


def for_person(parser: argparse.ArgumentParser, what: str) -> None:
    """The option that names one of the lab's people."""
    _completed(parser.add_argument("--for", dest="person", metavar="PERSON", help=what), _names("person"))


def guest_option(parser: argparse.ArgumentParser, flag: str, what: str) -> None:
    """An option that names a guest: `args.guest`."""
    _completed(parser.add_argument(flag, dest="guest", metavar="GUEST", help=what), _names("guest"))


def lab(parser: argparse.ArgumentParser, *, optional: bool = False) -> None:
    """One of the known labs."""
    argument = parser.add_argument("name", metavar="LAB", nargs="?" if optional else None, help="name of the lab")
    _completed(argument, _names("lab"))


def many(parser: argparse.ArgumentParser, flag: str, dest: str, metavar: str, what: str) -> None:
    """An option that may be repeated; the values form a list."""
    parser.add_argument(flag, dest=dest, metavar=metavar, action="append", default=[], help=what)


def unset(parser: argparse.ArgumentParser) -> None:
    """The option of every `edit` that removes a value from the file."""
    many(parser, "--unset", "unset", "KEY", "remove this key from the file; its default applies")


def waiting(parser: argparse.ArgumentParser) -> None:
    """How long a command waits for doors."""
    parser.add_argument("--no-wait", action="store_true", help="do not wait until the doors answer")
    parser.add_argument(
        "--wait", metavar="TIME", default="5 min", help="how long to wait for the doors (default: 5 min)"
    )


def wait_time(text: str) -> float:
    """Seconds from an option such as --wait. Raises UsageError."""
    from dacha.core.units import duration

    try:
        return duration(text)
    except BadValue as e:
        raise UsageError(f"--wait: {e.what}", remedy=e.remedy) from None


def confirm(question: str, option: str, refused: str = "nothing was removed") -> None:
    """Ask for a confirmation on the terminal; without one, an option is required. Raises UsageError for any answer but
    yes."""
    import sys

    if not sys.stdin.isatty():
        raise UsageError("this requires a confirmation, and there is no terminal", remedy=f"use {option}")
    if not agreed(question):
        raise UsageError(refused)


def agreed(question: str) -> bool:
    """Ask a yes-or-no question on the terminal. Any answer but yes counts as no."""
    try:
        return input(f"{question} [y/N] ").strip().lower() in ("y", "yes")
    except EOFError:
        return False
