"""The files of an ext2, ext3 or ext4 file system in a file, read and changed without mounting it.

The file system belongs to a guest, which may be hostile: only unprivileged programs (of e2fsprogs) parse it, confined
to the image. Names that their command language cannot express are left alone.
"""

from __future__ import annotations

import re
import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.host import confine
from dacha.host.accounts import helper
from dacha.host.facts import program

# How much CPU time a check may take (seconds), and how much of a file is read (bytes).
CHECK_S, READ_MOST = 1800, 1 << 20
_ECHO = "debugfs: "
_ROW = re.compile(r"/(\d+)/(\d{6})/(\d+)/(\d+)/([^/]*)/(\d*)/")
# Characters of a path that the command language passes on as they are, within quotes.
_SAFE = re.compile(r"[^\x00-\x1f\x7f\"\\]+")


class Entry(NamedTuple):
    """A name in a folder: `kind` is "file", "folder" or "other"; its owner and group, its permissions, its size in
    bytes. `clear` is false for a name that no command can express."""

    name: str
    kind: str
    uid: int
    gid: int
    mode: int
    size: int
    clear: bool


class Tree:
    """The file system in a file."""

    def __init__(self, image: Path) -> None:
        self.image = image

    def check(self, *, discard: bool = False) -> None:
        """Complete what the journal has, and repair what can be repaired without a decision; with `discard`, free the
        image's space where the file system has none: deleted contents are gone then. Raises HostError if it has errors
        that need a person."""
        command = [tool("e2fsck"), "-f", "-p", *(["-E", "discard"] if discard else []), str(self.image)]
        code, out, err = confine.run(command, helper(), write=[self.image], seconds=CHECK_S)
        if code & ~3:
            said = (err.strip() or out.strip()).splitlines() or [f"exit code {code}"]
            raise HostError(
                "a file system on the disk has errors", why=said[-1][:300],
                remedy="check the file system from a rescue medium in the guest: fsck -f DEVICE",
            )  # fmt: skip

    def listed(self, folders: Sequence[str]) -> dict[str, list[Entry]]:
        """The contents of these folders, without . and ..; a folder that does not exist is omitted."""
        clear = [f for f in folders if _SAFE.fullmatch(f)]
        found = {}
        for folder, lines in zip(clear, self._run([f'ls -p "{f}"' for f in clear]), strict=True):
            rows = [m for m in (_ROW.fullmatch(line) for line in lines) if m]
            if rows:
                broken = any(line and not _ROW.fullmatch(line) for line in lines)
                found[folder] = [_entry(m, broken) for m in rows if m[5] not in (".", "..")]
        return found

    def read(self, path: str) -> str | None:
        """The contents of a small text file; None if it does not exist, or is not one."""
        folder, _, name = path.rpartition("/")
        entries = self.listed([folder or "/"]).get(folder or "/", [])
        entry = next((e for e in entries if e.name == name), None)
        if entry is None or entry.kind != "file" or entry.size > READ_MOST or not entry.clear:
            return None
        with tempfile.TemporaryDirectory(prefix="dacha-read-") as work:
            out = Path(work) / "out"
            out.touch()
            self._run([f'dump "{path}" "{out}"'], extra=[out])
            return out.read_text(errors="surrogateescape")

    def change(self, commands: Sequence[str], *, read: Iterable[Path] = ()) -> None:
        """Carry out commands of debugfs(8), which may `read` these files. Raises HostError if one fails."""
        self._run(commands, write=True, read=read)

    def _run(
        self, commands: Sequence[str], *, write: bool = False, read: Iterable[Path] = (), extra: Iterable[Path] = ()
    ) -> list[list[str]]:  # fmt: skip
        """The output of each command, as lines; it may `read` files, and write to `extra` ones. Raises HostError."""
        if not commands:
            return []
        with tempfile.NamedTemporaryFile("w", prefix="dacha-ext-", errors="surrogateescape") as script:
            script.write("\n".join(commands) + "\n")
            script.flush()
            argv = [tool("debugfs"), *(["-w"] if write else []), "-f", script.name, str(self.image)]
            code, out, err = confine.run(
                argv, helper(), read=[Path(script.name), *read], write=[self.image, *extra], seconds=CHECK_S
            )
        # The first line is the program's version; errors of single commands are there, too.
        complaints = [line for line in err.splitlines()[1:] if line.strip()]
        if code or (write and complaints):
            what = "changed" if write else "read"
            why = (complaints or [f"exit code {code}"])[0][:300]
            raise HostError(f"a file system on the disk cannot be {what}", why=why)
        answers: list[list[str]] = []
        for line in out.split("\n"):
            if len(answers) < len(commands) and line == _ECHO + commands[len(answers)]:
                answers.append([])
            elif answers:
                answers[-1].append(line)
        if len(answers) != len(commands):
            raise HostError("a file system on the disk cannot be read", why="unexpected output of debugfs")
        return answers


def delete(path: str) -> str:
    """The command that deletes a file."""
    return f'rm "{path}"'


def delete_folder(path: str) -> str:
    """The command that deletes an empty folder."""
    return f'rmdir "{path}"'


def empty(path: str) -> tuple[str, ...]:
    """The commands that delete a file's contents; its owner, permissions and attributes stay."""
    return f'punch "{path}" 0', f'sif "{path}" size 0'


def replace(path: str, entry: Entry, content: Path) -> tuple[str, ...]:
    """The commands that give a file other contents, with its owner and permissions."""
    fields = {"mode": f"0{0o100000 | entry.mode:o}", "uid": entry.uid, "gid": entry.gid}
    return (delete(path), f'write "{content}" "{path}"', *(f'sif "{path}" {k} {v}' for k, v in fields.items()))


def _entry(row: re.Match[str], broken: bool) -> Entry:
    mode, name = int(row[2], 8), row[5]
    kind = {0o100000: "file", 0o040000: "folder"}.get(mode & 0o170000, "other")
    clear = not broken and bool(_SAFE.fullmatch(name))
    return Entry(name, kind, int(row[3]), int(row[4]), mode & 0o7777, int(row[6] or 0), clear)


def tool(name: str) -> str:
    """The path of a program of e2fsprogs. Raises HostError if it is not installed."""
    found = program(name)
    if found is None:
        raise HostError(
            f"{name} is not installed", why="it reads the guest's file system",
            remedy="on Debian: apt install e2fsprogs",
        )  # fmt: skip
    return found
