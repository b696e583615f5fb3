"""The option --make-key of dacha guest add and edit."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def make_key(ws: Workspace, args: argparse.Namespace) -> None:
    """With --make-key: one key more, the lab's own, and somebody to log in with it."""
    if not args.make_key:
        return
    from dacha.engine.lab.proposals import usual_user
    from dacha.engine.people.lab_key import lab_key

    guest = ws.lab.guests.get(args.name)
    args.keys = [*args.keys, lab_key(ws)]
    if not args.user and not (guest and guest.login):
        args.user = usual_user()
