"""The entry point: finds the command, builds only its parser, and turns errors into messages and exit codes.

Exit codes: 0 done; 1 the answer is no; 2 used wrongly, or the lab file has errors; 3 the host refused.
"""

from __future__ import annotations

import gc
import os
import sys

from dacha import __version__
from dacha.cli.commands import BY_NAME, COMMANDS, Parser, add_command
from dacha.cli.terminal import streams
from dacha.core.errors import DachaError, UsageError

# A command keeps what it loads until its end. Garbage collection after each seven hundred new objects would cost a
# quick command a twentieth of its time.
gc.set_threshold(50_000, 10, 10)


def parser_for(command: str) -> Parser:
    """The parser of one command only."""
    parser = Parser(prog=f"dacha {command}")
    add_command(parser, command)
    return parser


def usage() -> str:
    """The text of `dacha --help`."""
    lines = [
        "usage: dacha COMMAND [options]",
        "",
        "Run a lab of virtual machines on this host, and keep each of them reachable.",
        "One file, lab.toml, describes the lab; dacha apply makes this host match it.",
    ]
    group = ""
    for command in COMMANDS:
        if command.group != group:
            group = command.group
            lines += ["", group]
        lines.append(f"  {command.name:<10} {command.help}")
    lines += [
        "",
        "Global options: --lab FILE, --json, --debug, --help; dacha --version.",
        "First steps: dacha new NAME, dacha guest add NAME --from IMAGE, dacha apply, dacha connect NAME.",
    ]
    return "\n".join(lines)


def split(argv: list[str]) -> tuple[list[str], str | None, list[str]]:
    """Options before the command, the command, and its arguments."""
    n = 0
    while n < len(argv) and argv[n].startswith("-"):
        n += 2 if argv[n] == "--lab" else 1
    return argv[:n], argv[n] if n < len(argv) else None, argv[n + 1 :]


def dispatch(argv: list[str]) -> int:
    before, command, after = split(argv)
    if "--version" in before:
        streams.put(f"dacha {__version__}")
        return 0
    if command is None:
        if before and not {"-h", "--help"} & set(before):
            raise UsageError("no command specified", remedy="see: dacha --help")
        streams.put(usage())
        return 0 if before else 2
    if command not in BY_NAME:
        from dacha.core.spelling import did_you_mean

        raise UsageError(f"unknown command {command}", remedy=f"{did_you_mean(command, BY_NAME)}\nsee: dacha --help")
    # Options may come before the command; the parser of an action, not of its group, knows them.
    at = 1 if not BY_NAME[command].example and after and not after[0].startswith("-") else 0
    args = parser_for(command).parse_args([*after[:at], *before, *after[at:]])
    if os.geteuid() == 0:
        from dacha.host import folders

        moved = folders.take_over()
        if moved:
            streams.put(moved, sys.stderr)
    from dacha.core import asking

    asking.secret = _secret
    return int(args.run(args) or 0)


def main(argv: list[str] | None = None) -> int:
    """Run one command and return its exit code. Only --debug shows the traceback of an internal error."""
    argv = sys.argv[1:] if argv is None else argv
    if "_ARGCOMPLETE" in os.environ:
        from dacha.cli.completion import complete

        complete()
    streams.prepare()
    code = _run(argv)
    lost = streams.end()
    if lost:
        streams.put(lost, sys.stderr, flush=True)
    # Completed work is a success; output that could not be written is not.
    return 3 if lost and streams.Lost.answer and code == 0 else code


def program() -> None:
    """Run `main` and end the process. A question that was given up may still run in a daemon thread, beside which the
    interpreter's shutdown sometimes crashes (Python 3.11): so it is skipped."""
    code = main()
    threads = sys.modules.get("threading")
    if threads and any(thread.daemon for thread in threads.enumerate()):
        os._exit(code)
    sys.exit(code)


def _secret(what: str, new: bool) -> str:
    """Ask the person at the terminal for a secret."""
    from dacha.cli.terminal.asking import secret

    return secret(what, new)


def _run(argv: list[str]) -> int:
    """The exit code of a command, with every error printed."""
    # Everything after "--" belongs to another program.
    own = argv[: argv.index("--")] if "--" in argv else argv
    debug = "--debug" in own
    try:
        return dispatch(argv)
    except DachaError as e:
        if debug:
            raise
        if "--json" in own:
            _error_json(e)
        from dacha.core.harmless import harmless_lines

        streams.put(harmless_lines(e.message()), sys.stderr, flush=True)
        return e.exit_code
    except KeyboardInterrupt:
        streams.put("\ninterrupted; dacha status shows the current state", sys.stderr, flush=True)
        return 130
    except BrokenPipeError as e:
        streams.lose(e, sys.stdout)
        return 0
    except Exception as e:
        if debug:
            raise
        streams.put(
            f"internal error: {type(e).__name__}: {e}\n  the same command with --debug prints the details; please "
            "report it",
            sys.stderr,
            flush=True,
        )
        return 70


def _error_json(e: DachaError) -> None:
    """An error for scripts."""
    from dacha.cli.terminal.output import emit_json, finding_json

    findings = [finding_json("lab.toml", f) for f in getattr(e, "findings", ())]
    said = {"what": e.what, "where": e.where, "why": e.why, "remedy": e.remedy, "findings": findings}
    emit_json({"error": {"code": e.code, "exit_code": e.exit_code, **said}})
