"""The lock of a lab that a guest is saved from."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.archive.saving import Lock
    from dacha.engine.workspace import Workspace


def held(ws: Workspace) -> Lock:
    """Acquires the lab's lock for `guest save`, and reports what holds it meanwhile."""
    return partial(ws.home.lock, "guest save", ws.path, lambda holder: output.note(f"waiting for {holder}"))
