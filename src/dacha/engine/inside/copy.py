"""Files and folders copied into a guest and out of it, by SFTP through its SSH door."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from dacha.core.errors import HostError, UsageError
from dacha.core.named import NamedTuple
from dacha.engine.inside.ssh import ssh_command
from dacha.engine.workspace import Workspace
from dacha.host.facts import program

# What stands before a path in the guest.
THERE = ":"


class Copy(NamedTuple):
    """The client's command, and what it is told on its standard input."""

    argv: list[str]
    told: str


def copy_command(ws: Workspace, guest: str, paths: Sequence[str], *, user: str | None, progress: bool = False) -> Copy:
    """Copy `paths[0]` to `paths[1]`, one of them in the guest: ":notes" beside its user's other files, ":/etc/motd"
    from its root. Folders go whole; what comes out and was broken off is gone on with (sftp can do that only where the
    file is there already, which into a guest nobody knows). Raises UsageError, AnswerNo, HostError."""
    source, target = paths
    if source.startswith(THERE) == target.startswith(THERE):
        raise UsageError(
            "one of the two is in the guest, and one is here",
            remedy=f"what is in the guest begins with a colon: dacha connect {guest} --copy notes.txt :notes.txt",
        )
    inward = target.startswith(THERE)
    here = Path(source if inward else target).expanduser()
    if inward and not here.exists():
        raise UsageError(f"there is no {here} here to be copied", remedy="what is in the guest begins with a colon")
    if not inward and not (here.is_dir() or here.parent.is_dir()):
        raise UsageError(f"there is no folder {here.parent} here", remedy="make it, or copy elsewhere")
    sftp = program("sftp")
    if sftp is None:
        raise HostError("sftp is not on this machine", remedy="on Debian: apt install openssh-client")
    argv = ssh_command(ws, guest, (), user=user, terminal=False)
    # OpenSSH's own options, the port by sftp's letter for it; nothing is asked, so that a script never waits.
    options = ["-P" if word == "-p" else word for word in argv[1:-1]]
    login = options.index("-l")
    who = options[login + 1]
    del options[login : login + 2]
    there = (target if inward else source)[len(THERE) :] or "."
    words = ["put", "-R", "-p", _quoted(str(here)), _quoted(there)]
    if not inward:
        words = ["get", "-R", "-a", "-p", _quoted(there), _quoted(str(here))]
    # Known by its address alone where that is IPv6 too.
    place = f"[{argv[-1]}]" if ":" in argv[-1] else argv[-1]
    return Copy(
        [sftp, "-o", "BatchMode=yes", *options, "-b", "-", f"{who}@{place}"],
        f"{'@progress' if progress else ''}\n@{' '.join(words)}\n",
    )


def _quoted(path: str) -> str:
    """A path in quotes, as sftp's own language has it: what stands for many files stands for itself in them."""
    if any(ord(c) < 32 for c in path):
        raise UsageError("a path with control characters in it cannot be said to sftp")
    escaped = "".join(f"\\{c}" if c in '\\"' else c for c in path)
    return f'"{escaped}"'
