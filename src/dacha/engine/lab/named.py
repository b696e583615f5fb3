"""What is named on a command line, found in the lab; or the nearest that is there."""

from __future__ import annotations

from dacha.core.errors import UsageError
from dacha.core.lab.model import Guest
from dacha.core.spelling import did_you_mean
from dacha.engine.workspace import Workspace


def guest_named(ws: Workspace, name: str) -> Guest:
    """The guest of that name. Raises UsageError with the nearest one."""
    guest = ws.lab.guests.get(name)
    if guest is None:
        raise UsageError(
            f"there is no guest {name}",
            where=ws.path.name,
            remedy=did_you_mean(name, ws.lab.guests, "add one: dacha guest add NAME"),
        )
    return guest
