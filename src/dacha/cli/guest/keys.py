"""The option --make-key of dacha guest add and edit."""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Iterator
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def make_key(ws: Workspace, args: argparse.Namespace) -> None:
    """With --make-key: add the lab's own key, and a login user for it."""
    if not args.make_key:
        return
    from dacha.engine.lab.proposals import usual_user
    from dacha.engine.people.lab_key import lab_key, pairs

    guest = ws.lab.guests.get(args.name)
    there = set(pairs(ws).values())
    args.keys = [*args.keys, lab_key(ws)]
    args.made_keys = sorted(set(pairs(ws).values()) - there)
    if not args.user and not (guest and guest.login):
        args.user = usual_user()


@contextlib.contextmanager
def unmade(args: argparse.Namespace) -> Iterator[None]:
    """Delete a key pair that --make-key created, if the edit is refused."""
    args.made_keys = []
    try:
        yield
    except BaseException:
        for public in args.made_keys:
            public.unlink(missing_ok=True)
            public.with_suffix("").unlink(missing_ok=True)
        raise
