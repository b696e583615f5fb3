"""Warnings about a new guest right after it was written: missing files, and whether its installation is interactive."""

from __future__ import annotations

from dacha.cli.terminal import output
from dacha.core.lab.model import Guest
from dacha.engine.workspace import Workspace


def say_missing(ws: Workspace, name: str) -> None:
    """A warning for each missing file of the guest, with its remedy."""
    from dacha.engine.check.named_files import named_files

    for f in named_files(ws, name):
        output.note(f"warning: {f.what}\n  {f.remedy}" if f.remedy else f"warning: {f.what}")


def say_installer(ws: Workspace, guest: Guest) -> None:
    """Whether the guest's installation is interactive."""
    if not guest.install:
        return
    from dacha.engine.guest import answers

    why = answers.why_none(ws, guest)
    if why is None:
        form = answers.answers_of(ws, guest.name).form
        output.step("installer", f"is unattended, and uses the whole disk ({form}): dacha guest answers {guest.name}")
    elif guest.answers:
        output.step("installer", f"is interactive: {why[0]}")
