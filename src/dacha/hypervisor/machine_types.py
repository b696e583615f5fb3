"""The versions of the board that this host's QEMU offers.

`q35` is an alias of the newest one: after an upgrade of QEMU, the same name is other hardware to a guest.
"""

from __future__ import annotations

import contextlib
import re
import subprocess
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.host import folders
from dacha.host.facts import program
from dacha.host.records import read_record, write_record

VERSION = 1
# A line of `qemu-system-x86_64 -machine help`.
_LINE = re.compile(r"(pc-q35-[0-9.]+)\s.*?(\(deprecated\))?$")
_ALIAS = re.compile(r"q35\s.*\(alias of (pc-q35-[0-9.]+)\)")


class MachineTypes(NamedTuple):
    """The versions that QEMU supports, those of them that it will drop, and the newest, which is its default; "" if
    QEMU names no default."""

    names: tuple[str, ...]
    deprecated: tuple[str, ...]
    newest: str


def parsed(text: str) -> MachineTypes:
    """The versions in QEMU's own list."""
    names, deprecated, newest = [], [], ""
    for line in text.splitlines():
        if alias := _ALIAS.match(line):
            newest = alias[1]
        elif row := _LINE.match(line):
            names.append(row[1])
            deprecated += [row[1]] if row[2] else []
    return MachineTypes(tuple(names), tuple(deprecated), newest)


def program_identity() -> str:
    """A text that identifies the file of this host's QEMU: another version is another file. "" if it is not
    installed."""
    try:
        seen = Path(program("qemu-system-x86_64") or "").resolve(strict=True).stat()
    except OSError:
        return ""
    return f"{seen.st_ino} {seen.st_mtime_ns} {seen.st_size}"


def machine_types(*, keep: bool = False) -> MachineTypes | None:
    """The machine types of this host's QEMU; None if QEMU is not installed, or does not report them. With `keep` they
    are stored, and QEMU is asked again only when another version replaces it."""
    path, identity = program("qemu-system-x86_64"), program_identity()
    if path is None or not identity:
        return None
    note = folders.state() / "machine-types.json"
    with contextlib.suppress(HostError, KeyError, TypeError):
        kept = read_record(note, VERSION)
        if kept.get("program") == identity:
            return MachineTypes(tuple(kept["names"]), tuple(kept["deprecated"]), str(kept["newest"]))
    try:
        done = subprocess.run(
            [path, "-machine", "help"], capture_output=True, text=True, timeout=60, check=False, cwd="/"
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    found = parsed(done.stdout)
    if done.returncode or not found.newest:
        return None
    if keep:
        with contextlib.suppress(HostError):
            write_record(note, VERSION, {"program": identity, **found._asdict()})
    return found
