"""Passphrases of encrypted disks: where each comes from, and how a program gets it without anybody else seeing it.

A passphrase is never an argument, a variable of the environment, or part of a file that Dacha writes. A program that is
started reads it from a pipe that it inherits, which is empty afterwards; a running QEMU gets it over its monitor.
"""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Iterator
from pathlib import Path

from dacha.core import asking
from dacha.core.errors import AnswerNo, HostError
from dacha.host.accounts import Account

# Where passphrases come from: a person, a credential of systemd (systemd.exec(5), CREDENTIALS), or a file.
ASK, CREDENTIAL = "ask", "credential:"
# The longest passphrase (bytes).
LONGEST = 512
# Work that each guess costs, measured as time on this host when the disk is created (milliseconds).
WORK_MS = 1000

_known: dict[tuple[str, str], bytes] = {}


def passphrase(source: str, what: str, *, new: bool = False) -> bytes:
    """The passphrase of a disk (`what` in words) from its source, which is asked once in a command. Raises AnswerNo if
    nobody can be asked, HostError for a file that is missing or open to others."""
    if (source, what) not in _known:
        found = _from_person(what, new=new) if source == ASK else _from_file(source, what)
        if not found or len(found) > LONGEST:
            raise HostError(
                f"the passphrase of {what} is {'empty' if not found else 'too long'}",
                remedy=f"use one of 1 to {LONGEST} bytes",
            )
        try:
            found.decode()
        except UnicodeDecodeError as e:
            raise HostError(f"the passphrase of {what} is not text (UTF-8)", remedy="use letters and digits") from e
        _known[source, what] = found
    return _known[source, what]


def forget() -> None:
    """Forget what was asked: it was wrong, or it has changed."""
    _known.clear()


def _from_person(what: str, *, new: bool) -> bytes:
    if asking.secret is None:
        raise AnswerNo(
            f"the passphrase of {what} is needed, and nobody can be asked",
            why='its `passphrase` is "ask", which needs a terminal',
            remedy='run the command on a terminal, or set it to a file: passphrase = "FILE"',
        )
    return asking.secret(what, new).encode()


def _from_file(source: str, what: str) -> bytes:
    path = Path(source)
    if source.startswith(CREDENTIAL):
        folder = os.environ.get("CREDENTIALS_DIRECTORY")
        if not folder:
            raise AnswerNo(
                f"the passphrase of {what} is a credential of a service, and this is not that service",
                why="systemd gives credentials to its services only ($CREDENTIALS_DIRECTORY is not set)",
                remedy="start the guest by the caretaker's service, with LoadCredential= in its unit",
            )
        path = Path(folder) / source.removeprefix(CREDENTIAL)
    try:
        fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError as e:
        raise HostError(f"the passphrase of {what} cannot be read: {path}", why=e.strerror or str(e)) from e
    with os.fdopen(fd, "rb") as f:
        if os.fstat(fd).st_mode & (stat.S_IRWXG | stat.S_IRWXO) and not source.startswith(CREDENTIAL):
            raise HostError(
                f"the passphrase of {what} is in a file that others may read: {path}", remedy=f"chmod 600 {path}"
            )
        return f.read(LONGEST + 2).rstrip(b"\r\n")


@contextlib.contextmanager
def given(passphrases: dict[str, bytes], account: Account | None) -> Iterator[tuple[list[str], tuple[int, ...]]]:
    """Options of QEMU's programs that define these secrets, by their identifiers, and the open pipes that they are
    read from: for a program that runs as `account`."""
    words, pipes = [], []
    try:
        for name, secret in passphrases.items():
            pipes.append(pipe(secret, account))
            words += ["--object", f"secret,id={name},file=/proc/self/fd/{pipes[-1]}"]
        yield words, tuple(pipes)
    finally:
        for fd in pipes:
            os.close(fd)


def pipe(secret: bytes, account: Account | None) -> int:
    """Return the read end of a pipe that contains a secret. That user may reopen it through /proc."""
    reading, writing = os.pipe2(os.O_CLOEXEC)
    try:
        os.write(writing, secret)
        if account:
            os.fchown(reading, account.uid, account.gid)
    finally:
        os.close(writing)
    return reading
