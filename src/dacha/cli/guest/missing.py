"""What is said of a new guest as soon as it was written, not first when it is applied: files that are not there, and
whether its installer asks."""

from __future__ import annotations

from dacha.cli.terminal import output
from dacha.core.lab.model import Guest
from dacha.engine.workspace import Workspace


def say_missing(ws: Workspace, name: str) -> None:
    """A warning for each file of the guest that is not there, with what to do."""
    from dacha.engine.check.named_files import named_files

    for f in named_files(ws, name):
        output.note(f"warning: {f.what}\n  {f.remedy}" if f.remedy else f"warning: {f.what}")


def say_installer(ws: Workspace, guest: Guest) -> None:
    """Whether the installer of a guest will ask anybody."""
    if not guest.install:
        return
    from dacha.engine.guest import answers

    why = answers.why_none(ws, guest)
    if why is None:
        form = answers.answers_of(ws, guest.name).form
        output.step("installer", f"is unattended, and uses the whole disk ({form}): dacha guest answers {guest.name}")
    elif guest.answers:
        output.step("installer", f"is interactive: {why[0]}")
