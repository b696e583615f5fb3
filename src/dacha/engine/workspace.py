"""A lab file together with its lab, its plan and its home: the start of almost every command."""

from __future__ import annotations

import os
from codecs import BOM_UTF8
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from dacha.core.errors import HostError, LabError, UsageError
from dacha.core.findings import ERROR, WARNING, Finding, errors
from dacha.core.lab.model import Lab
from dacha.core.lab.names import link_name
from dacha.core.lab.table.read import read_lab
from dacha.core.plan.check import check_lab
from dacha.core.plan.plan import Plan, make_plan
from dacha.engine.home import Home
from dacha.engine.kept_elsewhere import away_words, renamed_words
from dacha.engine.profiles import profiles
from dacha.host import folders
from dacha.host.files import replace_file

if TYPE_CHECKING:
    from dacha.core.plan.places import Here

NAME = "lab.toml"
# How long a command waits for the hardware address of the router here, in a lab with places (seconds).
PATIENT_S = 0.5


def find_lab_file(named: str | None) -> Path:
    """The lab file: the specified one, else $DACHA_LAB, else lab.toml here or above, else the user's own. Raises
    UsageError if there is none."""
    named = named or os.environ.get("DACHA_LAB")
    if named:
        path = folders.expand(named).absolute()
        # One file has one name, however its path is written.
        return path.parent.resolve() / path.name if ".." in path.parts else path
    here = Path.cwd()
    for folder in (here, *here.parents):
        try:
            if (folder / NAME).is_file():
                return folder / NAME
        except OSError as e:
            raise HostError(f"cannot look into {folder}", why=e.strerror or str(e)) from e
    own = folders.config() / NAME
    if own.is_file():
        return own
    raise UsageError(
        f"no {NAME} found here or in a folder above",
        where=str(here),
        why=_kept_labs(),
        remedy="create one: dacha new NAME, or specify one: dacha --lab FILE …",
    )


def _kept_labs(path: Path | None = None) -> str:
    """Labs that this user has guests of; mentioned if a lab file is missing, because its guests may still run."""
    found = []
    base = folders.state() / "labs"
    for folder in sorted(base.iterdir()) if base.is_dir() else ():
        home = Home(folder.name)
        owner = home.owner()
        if owner and (owner == path or (path is None and not owner.exists())) and home.applied.is_file():
            found.append(
                f"lab {folder.name} was last applied from {owner}; its guests may still run\n"
                f"to restore the file as it was applied: cp {home.applied} {owner}"
            )
    return "\n".join(found[:3])


def read_text(path: Path) -> str:
    """The lab file's text with LF line ends and without a byte order mark. Raises UsageError if it does not exist,
    HostError if it is not readable."""
    try:
        return path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise UsageError(
            "the lab file does not exist",
            where=str(path),
            why=_kept_labs(path),
            remedy="create one: dacha new NAME, or specify one: dacha --lab FILE …",
        ) from None
    except UnicodeDecodeError as e:
        raise LabError("it is not UTF-8 text", where=str(path), remedy="check the file name") from e
    except OSError as e:
        raise HostError(f"cannot read {path}", why=e.strerror or str(e)) from e


def write_text(path: Path, text: str) -> None:
    """Replace the lab file's text. Line ends (LF or CRLF) and a byte order mark are kept. Raises HostError."""
    try:
        with path.open("rb") as f:
            first = f.readline(1 << 16)
    except OSError:
        first = b""
    marked = first.startswith(BOM_UTF8)
    if first.endswith(b"\r\n"):
        text = text.replace("\n", "\r\n")
    replace_file(path, (BOM_UTF8 if marked else b"") + text.encode(), follow=True)


class Workspace:
    """One lab, read and planned. Created by `load`, which refuses a file with errors."""

    def __init__(self, path: Path, text: str, lab: Lab, findings: list[Finding]) -> None:
        self.path = path
        self.text = text
        # As written, and as it is at the place where this host is now.
        self.written = lab
        self.here: Here | None = None
        self.place: str | None = None
        self.lab = self._at_place() if lab.places else lab
        self.read_findings = findings
        self.home = Home(lab.name)

    def _at_place(self) -> Lab:
        from dacha.core.plan.places import lab_at, place_of
        from dacha.host.network.here import here

        self.here = here(PATIENT_S)
        self.place = place_of(self.written.places, self.here)
        return lab_at(self.written, self.place)

    @cached_property
    def plan(self) -> Plan:
        """The plan for this host: without conflicts with its routed subnets and used ports."""
        from dacha.engine import register
        from dacha.host.network import addresses
        from dacha.host.probe import ports

        own = {link_name(self.lab.name, "network", n) for n in self.lab.networks}
        subnets, others = register.taken(self.home)
        # A subnet written in the file may be another lab's, too, if QEMU carries both: only choices avoid it.
        written = [n.subnet for n in self.lab.networks.values() if n.subnet]
        avoided = [s for s in subnets if not any(s.overlaps(mine) for mine in written)]
        # Used ports matter only if one is to be chosen; the kernel needs time to list them.
        held = ports.listening() if any(d.port is None for d in self.lab.doors()) else set()
        return make_plan(self.lab, [*addresses.used_subnets(own), *avoided], held | others)

    def is_applied(self) -> bool:
        """True if the lab file is as it was last applied: then differences on this host come from other programs."""
        try:
            return self.home.applied.read_text() == self.text
        except OSError:
            return False

    def again(self) -> Workspace:
        """The same lab, to be planned again: what is free on this host may have changed."""
        return Workspace(self.path, self.text, self.written, self.read_findings)

    def at_this_place(self) -> Workspace:
        """The same lab at the place where this host is now: it may have moved since this one was loaded."""
        return self.again() if self.written.places else self

    @cached_property
    def plan_without_host(self) -> Plan:
        """The same without examining the host, if the file leaves nothing to choose."""
        plan = make_plan(self.lab)
        return plan if not plan.chosen else self.plan

    def findings(self) -> list[Finding]:
        """All findings about the file itself, read and planned."""
        found = [*self.read_findings, *check_lab(self.lab, self.plan)]
        if self.written.places or any(d.places for d in self.written.doors()):
            from dacha.core.plan.places import place_findings

            found += place_findings(self.written)
        if other := self.other_file():
            what = f"the lab {self.lab.name} was applied from another file, {other}: its guests belong to that file"
            remedy = f"use that file; if the lab file was moved here: dacha lab move {self.lab.name} --file {self.path}"
            found.append(Finding(WARNING, "lab-elsewhere", "lab", what, remedy, ("lab", "name")))
        if self.home.away:
            what, remedy = away_words(self.home.lab, self.home.folder, self.home.place)
            found.append(Finding(ERROR, "lab-away", "lab", what, remedy, ("lab", "name"), "host"))
        if former := self.former_name():
            what, remedy = renamed_words(former, self.lab.name)
            found.append(Finding(ERROR, "lab-renamed", "lab", what, remedy, ("lab", "name")))
        if self.lab.people:
            from dacha.core.people.check import check_people

            found += check_people(self.written)
        return found

    def other_file(self) -> Path | None:
        """Another existing lab file of this name that the lab's guests were created from; None for the lab's own
        file."""
        owner = self.home.owner()
        return owner if owner and owner != self.path and owner.is_file() and self.home.guests() else None

    def former_name(self) -> str | None:
        """The name of the lab whose guests were created from this file, if the file now has another name without any
        guests."""
        return self.home.former(self.path)

    def resolve(self, written: str) -> Path:
        """A path in the lab file: ~ is the user's home, other paths are relative to the lab file's folder."""
        path = folders.expand(written)
        return path if path.is_absolute() else self.path.parent / path

    def refuse_if_wrong(self) -> None:
        """Raise LabError if the file or its plan has an error."""
        wrong = errors(self.findings())
        if wrong:
            raise lab_error(self.path, self.text, wrong)


def load(named: str | None) -> Workspace:
    """Find, read and plan the lab file. Raises UsageError, LabError, HostError."""
    path = find_lab_file(named)
    weak = folders.file_changed_by_others(path)
    if weak:
        raise HostError(
            "Dacha does not use this lab file as root",
            where=str(path),
            why=f"{weak}, and their changes would be carried out as root",
            remedy=f"to see what it requests: dacha check --untrusted {path}\n"
            f"to trust it, make yourself its only owner: chown root {path}; chmod go-w {path}, and the folders "
            "above it",
        )
    text = read_text(path)
    reading = read_lab(text, profiles())
    if reading.lab is None or reading.findings:
        raise lab_error(path, text, reading.findings)
    ws = Workspace(path, text, reading.lab, reading.findings)
    ws.home.refuse_if_away()
    return ws


def load_or_applied(named: str | None) -> tuple[Workspace, str]:
    """The lab in its file, or if that has errors, as it was last applied, with a message (else ""): running guests are
    known in any case. Raises UsageError, LabError, HostError."""
    try:
        return load(named), ""
    except LabError:
        path = find_lab_file(named)
        applied = _applied(path)
        if applied is None:
            raise
        return applied, f"{path.name} has errors, so the last applied version is used; dacha check shows the errors"


def _applied(path: Path) -> Workspace | None:
    """The lab as it was last applied from `path`; None if it never was."""
    base = folders.state() / "labs"
    for folder in sorted(base.iterdir()) if base.is_dir() else ():
        home = Home(folder.name)
        if home.owner() == path and home.applied.is_file():
            text = read_text(home.applied)
            reading = read_lab(text, profiles())
            if reading.lab is not None and not reading.findings:
                return Workspace(path, text, reading.lab, reading.findings)
    return None


def load_applied(path: Path) -> Workspace:
    """The lab as it was last applied from `path`, for the caretaker; as in the file if it never was. Raises UsageError,
    LabError, HostError."""
    return _applied(path) or load(str(path))


def locate(path: Path, text: str, findings: list[Finding]) -> list[Finding]:
    """The findings with their lines, in file order."""
    if any(f.line is None and f.path for f in findings):
        from dacha.core.lab.text.layout import Places

        places = Places(text)
        findings = [f if f.line else f._replace(line=places.line(f.path)) for f in findings]
    return sorted(findings, key=lambda f: f.line or 1 << 30)


def lab_error(path: Path, text: str, wrong: list[Finding]) -> LabError:
    """One error for all findings; its message shows each with its line."""
    wrong = locate(path, text, wrong)
    lines = []
    for f in wrong[:20]:
        lines.append(
            f"{path.name}:{f.line}: {f.subject}: {f.what}" if f.line else f"{path.name}: {f.subject}: {f.what}"
        )
        lines += ["  " + r for r in f.remedy.splitlines()]
    if len(wrong) > 20:
        lines.append(f"and {len(wrong) - 20} more: dacha check shows all")
    return LabError("\n".join(lines), findings=wrong)
