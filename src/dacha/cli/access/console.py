"""dacha console: a terminal on a guest's serial console."""

from __future__ import annotations

import argparse
import contextlib
import os
import select
import socket
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo, HostError
from dacha.core.harmless import TerminalText

LEAVE = b"\x1d"  # Ctrl-], the traditional key of serial terminals.
_CONTEXT_LINES = 12


def console_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Attach this terminal to a guest's serial console; Ctrl-] detaches; the guest keeps running.\n"
        "All output of the console is recorded, attached or not; --record prints it."
    )
    arguments.guest(parser)
    parser.add_argument("--record", action="store_true", help="print the record and exit")
    parser.add_argument("--follow", action="store_true", help="print the record and new output, until the guest stops")


def run_console(args: argparse.Namespace) -> int:
    from dacha.cli.words import lab_or_applied
    from dacha.engine.lab.named import guest_named
    from dacha.host.files import locked
    from dacha.host.unix_socket import connect_to_guest
    from dacha.hypervisor.command_line import SERIAL

    ws = lab_or_applied(args)
    guest_named(ws, args.guest)
    record = ws.home.guest(args.guest) / "console.log"
    if args.record or args.follow:
        return _print_record(args.guest, record, (lambda: ws.home.is_running(args.guest)) if args.follow else None)
    if not ws.home.is_running(args.guest):
        raise AnswerNo(
            f"{args.guest} is off",
            remedy=f"dacha start {args.guest}\nearlier output: dacha console {args.guest} --record",
        )
    # QEMU serves one client on this line and lets a second one hang silently; so the second gets a message.
    with locked(ws.home.guest(args.guest) / "console.lock", f"dacha console {args.guest}", 0.0):
        try:
            line = connect_to_guest(ws.home.run(args.guest) / SERIAL, 5.0)
        except OSError as e:
            raise HostError(
                f"the console of {args.guest} is not available",
                why=e.strerror or str(e),
                remedy="dacha status",
            ) from e
        with line, _raw(sys.stdin.fileno()):
            # In raw mode a line break needs both characters.
            sys.stderr.write(f"Attached to the console of {args.guest}. Ctrl-] detaches. Earlier output:\r\n")
            sys.stderr.flush()
            _replay(record)
            ended = _attach(line)
    output.note(
        f"\n{args.guest} has stopped."
        if ended
        else f"\nDetached from the console of {args.guest}; the guest keeps running."
    )
    return 0


def _print_record(name: str, record: Path, going_on: Callable[[], bool] | None) -> int:
    """Print the record; with `going_on`, also new output while that is true."""
    try:
        shown = TerminalText() if sys.stdout.isatty() else None
        with record.open("rb") as f:
            while True:
                # Asked before reading, so that a guest's last output is not missed.
                more = going_on is not None and going_on()
                while chunk := f.read(65536):
                    sys.stdout.buffer.write(_encoded(shown.feed(chunk)) if shown else chunk)
                if shown and not more:
                    sys.stdout.buffer.write(_encoded(shown.feed(b"", last=True)))
                sys.stdout.buffer.flush()
                if not more:
                    break
                if os.fstat(f.fileno()).st_size < f.tell():
                    f.seek(0, os.SEEK_END)  # a long record was shortened
                time.sleep(0.1)
    except FileNotFoundError:
        raise AnswerNo(f"{name} has printed nothing yet", remedy=f"dacha start {name}") from None
    return 0


def _encoded(text: str) -> bytes:
    """Encode for the terminal, and escape what its encoding lacks."""
    return text.encode(sys.stdout.encoding or "utf-8", "replace")


def _replay(record: Path) -> None:
    with contextlib.suppress(OSError), record.open("rb") as f:
        f.seek(max(0, record.stat().st_size - 4096))
        sys.stdout.buffer.write(
            _encoded(TerminalText().feed(b"\n".join(f.read().split(b"\n")[-_CONTEXT_LINES:]), last=True))
        )
        sys.stdout.buffer.flush()


@contextlib.contextmanager
def _raw(fd: int) -> Iterator[None]:
    """Pass every key to the guest; the terminal's mode is restored in any case."""
    if not os.isatty(fd):
        yield
        return
    import termios
    import tty

    before = termios.tcgetattr(fd)
    try:
        tty.setraw(fd, termios.TCSADRAIN)  # keep what was already typed
        yield
    finally:
        termios.tcsetattr(fd, termios.TCSADRAIN, before)


def _attach(line: socket.socket) -> bool:
    """Copy bytes both ways until the detach key, the end of input, or the guest's end; True for the last."""
    keys, screen = sys.stdin.fileno(), sys.stdout.fileno()
    line.settimeout(None)
    watched: list[int] = [keys, line.fileno()]
    while True:
        ready, _, _ = select.select(watched, [], [], 1.0 if keys not in watched else None)
        if line.fileno() in ready:
            data = line.recv(65536)
            if not data:
                return True
            os.write(screen, data)
        if keys in ready:
            typed = os.read(keys, 4096)
            before, leave, _ = typed.partition(LEAVE)
            if before:
                line.sendall(before)
            if leave:
                return False
            if not typed:
                watched.remove(keys)  # A script's input has ended: wait for the guest's output.
        elif not ready:
            return False
