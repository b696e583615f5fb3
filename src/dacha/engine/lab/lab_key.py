"""A key pair of the lab's own, for a person who has none: beside the lab file, its private half for this user alone."""

from __future__ import annotations

import os

from dacha.core.errors import UsageError
from dacha.engine.workspace import Workspace
from dacha.host.files import replace_file


def lab_key(ws: Workspace) -> str:
    """The public key's file as the lab file names it; the pair is made where it is not there.

    Raises UsageError where half of it is there, HostError.
    """
    from dacha.formats.openssh import key_pair

    private = ws.path.parent / f"{ws.lab.name}_key"
    public = private.with_name(f"{private.name}.pub")
    there = [p for p in (private, public) if p.exists()]
    if len(there) == 1:
        raise UsageError(
            f"there is {there[0].name} without its other half", where=str(there[0]),
            remedy=f"ssh-keygen -y -f {private} > {public}, or move it away" if there[0] == private
            else "move it away, and a new pair is made",
        )  # fmt: skip
    if not there:
        secret, line = key_pair(os.urandom(32), ws.lab.name)
        replace_file(private, secret, mode=0o600)
        replace_file(public, line)
    return public.name
