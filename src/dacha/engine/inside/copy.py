"""Copy files and folders into and out of a guest, by SFTP through its SSH door."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from dacha.core.errors import HostError, UsageError
from dacha.core.named import NamedTuple
from dacha.core.units import whole_number
from dacha.engine.inside.ssh import ssh_command
from dacha.engine.workspace import Workspace
from dacha.host.bounded import run_bounded
from dacha.host.facts import program

# A slow guest needs time for a login.
ASK_S = 150.0
# The prefix of paths in the guest.
THERE = ":"


class Copy(NamedTuple):
    """The client's command, and its standard input."""

    argv: list[str]
    told: str


def copy_command(
    ws: Workspace, guest: str, paths: Sequence[str], *, user: str | None, progress: bool = False, resume: bool = False
) -> Copy:
    """Copy `paths[0]` to `paths[1]`, one of them in the guest: ":notes" in its user's home, ":/etc/motd" from its root.
    Folders are copied completely. With `resume`, an interrupted copy continues: for each file out of the guest, and for
    a single one into it. (Existing data is not compared: it must be the beginning of the same file.) Raises UsageError,
    AnswerNo, HostError."""
    source, target = paths
    if source.startswith(THERE) == target.startswith(THERE):
        raise UsageError(
            "one path must be in the guest, the other one on this host",
            remedy=f"start paths in the guest with a colon: dacha connect {guest} --copy notes.txt :notes.txt",
        )
    inward = target.startswith(THERE)
    here = Path(source if inward else target).expanduser()
    if inward and not here.exists():
        raise UsageError(f"{here} does not exist on this host", remedy="start paths in the guest with a colon")
    if not inward and not (here.is_dir() or here.parent.is_dir()):
        raise UsageError(
            f"the folder {here.parent} does not exist on this host", remedy="create it, or copy to another folder"
        )
    sftp = program("sftp")
    if sftp is None:
        raise HostError("sftp is not installed", remedy="on Debian: apt install openssh-client")
    argv = ssh_command(ws, guest, (), user=user, terminal=False)
    # OpenSSH's own options, with sftp's letter for the port; no prompts, so that a script never waits.
    options = ["-P" if word == "-p" else word for word in argv[1:-1]]
    login = options.index("-l")
    who = options[login + 1]
    del options[login : login + 2]
    if inward and resume and here.is_dir():
        what = "--resume does not work for a folder that is copied into a guest: what is there is not compared"
        raise UsageError(what, remedy="copy it without --resume, or file by file")
    there = (target if inward else source)[len(THERE) :] or "."
    words = ["put", "-R", "-p", _quoted(str(here)), _quoted(there)]
    if not inward:
        words = ["get", "-R", *(["-a"] if resume else []), "-p", _quoted(there), _quoted(str(here))]
    # The address is in the known hosts without brackets, also for IPv6.
    place = f"[{argv[-1]}]" if ":" in argv[-1] else argv[-1]
    client = [sftp, "-o", "BatchMode=yes", *options, "-b", "-", f"{who}@{place}"]
    if inward and resume and here.is_file() and 0 < _size_there(client, there, here.name) < here.stat().st_size:
        words[1:2] = ["-a"]
    return Copy(client, f"{'@progress' if progress else ''}\n@{' '.join(words)}\n")


def _size_there(client: Sequence[str], path: str, name: str) -> int:
    """The size of a file in the guest: at the path, or in that folder; 0 if it does not exist."""
    for asked in (f"{path}/{name}", path):
        said = run_bounded(client, ASK_S, given=f"@ls -ln {_quoted(asked)}\n")
        rows = [line.split() for line in said.text.splitlines()]
        found = [row for row in rows if len(row) > 8 and row[0].startswith("-")]
        if said.code == 0 and len(found) == 1 and len(rows) == 1:
            return whole_number(found[0][4]) or 0
    return 0


def _quoted(path: str) -> str:
    """A path in quotes, in sftp's own language: wildcards are escaped."""
    if any(ord(c) < 32 for c in path):
        raise UsageError("sftp does not support paths with control characters")
    escaped = "".join(f"\\{c}" if c in '\\"' else c for c in path)
    return f'"{escaped}"'
