"""The lab file's versions as they were applied: shown against this host, or put back."""

from __future__ import annotations

import time
from pathlib import Path

from dacha.core.errors import BadValue, LabError, UsageError
from dacha.core.lab.table.read import read_lab
from dacha.engine.log.changes import Version, keep_version, version_at
from dacha.engine.log.journal import note
from dacha.engine.log.moment import moment
from dacha.engine.profiles import profiles
from dacha.engine.workspace import Workspace, lab_error, load_or_applied, read_text, write_text
from dacha.host.files import editing


def load_as_of(named: str | None, when: str) -> tuple[Workspace, Version]:
    """The lab as its file was applied at that time, and the version. Raises UsageError for a time that is none, or from
    before the first version; LabError if this version of Dacha does not accept that text."""
    ws, _ = load_or_applied(named)
    try:
        version = version_at(ws.home, moment(when, time.time()))
    except BadValue as e:
        raise UsageError(f"--as-of: {e.what}", remedy=e.remedy) from None
    text = read_text(version.path)
    reading = read_lab(text, profiles())
    if reading.lab is None or reading.findings:
        error = lab_error(version.path, text, reading.findings)
        raise LabError(error.what, why=f"this is the version of {version.shown()}", findings=error.findings)
    if reading.lab.name != ws.lab.name:
        raise UsageError(
            f"the lab was named {reading.lab.name} at {version.shown()}",
            remedy="dacha lab rename changes its name; choose a later time here",
        )
    return Workspace(ws.path, text, reading.lab, reading.findings), version


def put_back(named: str | None, when: str) -> Version:
    """Restore the lab file to the version that was applied at that time, and store its present text as a version.
    Raises as `load_as_of`, and HostError."""
    ws, version = load_as_of(named, when)
    with editing(ws.path):
        before = read_text(ws.path) if Path(ws.path).exists() else ""
        if before and before != ws.text:
            keep_version(ws.home, before)
        if before != ws.text:
            write_text(ws.path, ws.text)
            note(ws.home, "restored", text=version.shown())
    return version
