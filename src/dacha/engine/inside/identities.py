"""The private keys on this host that open a guest: those of the lab file, and those that the guest still has from
before the file changed."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from dacha.core.lab.model import Guest
from dacha.core.people.keys_inside import key_of
from dacha.engine.guest.keys import key_line
from dacha.engine.workspace import Workspace
from dacha.formats.openssh import public_line
from dacha.host import folders

# A file of this size is not a public key.
_MOST = 16384


def identities(ws: Workspace, guest: Guest, *, former: bool = False) -> list[str]:
    """The client's options for the private keys beside the public ones of the guest's login. With `former`, if none of
    these was added to the guest yet, also for those that its record names: a key that replaces another one is added by
    a login with the other one."""
    keys = [k for k in (guest.login.keys if guest.login else ()) if k.endswith(".pub")]
    found = [path for path in (ws.resolve(k.removesuffix(".pub")) for k in keys) if path.is_file()]
    if former:
        found += _former(ws, guest)
    argv = [word for path in found for word in ("-i", literal(str(path)))]
    return [*argv, "-o", "IdentitiesOnly=yes"] if argv else []


def literal(path: str) -> str:
    """A path in which ssh replaces nothing (ssh_config(5), TOKENS)."""
    return path.replace("%", "%%")


def keys_in(ws: Workspace, guest: Guest, user: str) -> set[tuple[str, ...]] | None:
    """The keys (type and data) that were added to an account of the guest, by its record; None if that does not say."""
    keyed = ws.home.read(guest.name).keyed
    return None if keyed is None or user not in keyed else {key_of(line) for line in keyed[user]}


def _former(ws: Workspace, guest: Guest) -> list[Path]:
    if guest.login is None or not (inside := keys_in(ws, guest, guest.login.user)):
        return []
    wanted: set[tuple[str, ...]] = set()
    for written in guest.login.keys:
        with contextlib.suppress(ValueError):
            wanted.add(key_of(key_line(ws, written)))
    if wanted & inside:
        return []
    return [private for private, key in _pairs(ws) if key in inside]


def _pairs(ws: Workspace) -> Iterator[tuple[Path, tuple[str, ...]]]:
    """The key pairs beside the lab file and in this user's SSH folder: the private file, and the public key."""
    for folder in dict.fromkeys((ws.path.parent, folders.expand("~/.ssh"))):
        for public in sorted(folder.glob("*.pub")):
            private = public.with_suffix("")
            with contextlib.suppress(OSError, ValueError):
                if private.is_file() and public.stat().st_size <= _MOST:
                    yield private, key_of(public_line(public.read_text()))
