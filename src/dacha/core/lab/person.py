"""Somebody who may enter guests of the lab."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from dacha.core.lab.model import Guest

# What `enters` says for somebody who may enter every guest.
EVERYTHING = "all"


def is_key(written: str) -> bool:
    """True for an entry of `keys` that is a public key itself, not the name of a file (RFC 4253 section 6.6)."""
    kind, *rest = written.split(maxsplit=2)[:2] or [""]
    # A path such as "ssh-keys/kim.pub" begins like one too, and has a slash, or no second word.
    return kind.startswith(("ssh-", "ecdsa-", "sk-")) and "/" not in kind and rest != []


class Entry(NamedTuple):
    """What somebody may enter: a guest, or (`door`) one door of it alone."""

    guest: str
    door: str | None = None

    def __str__(self) -> str:
        return f"{self.guest} {self.door}" if self.door else self.guest


class Person(NamedTuple):
    """Somebody: `keys` are files of public keys, or keys; `origin` (the file's `from`) is the farthest place that they
    enter from; `user` is an account of their own in the guests, None for that of whoever logs in there."""

    name: str
    keys: tuple[str, ...] = ()
    enters: tuple[Entry, ...] = ()
    everything: bool = False
    origin: str = "lan"
    user: str | None = None

    def may_enter(self, guest: Guest, door: str | None = None) -> bool:
        """True when they may enter the guest at all, or (`door`) by this door of it."""
        if self.everything:
            return True
        mine = [e for e in self.enters if e.guest == guest.name]
        return any(door is None or e.door in (None, door) for e in mine)

    def enters_by_ssh(self, guest: Guest) -> bool:
        """True when their keys belong into the guest: they may enter all of it, or a door of it where SSH is spoken."""
        speaks = {d.name for d in guest.doors if d.service == "ssh"}
        mine = [e for e in self.enters if e.guest == guest.name]
        return self.everything or any(e.door is None or e.door in speaks for e in mine)

    def account(self, guest: Guest) -> str | None:
        """The account that they have in the guest; None where nobody is named who logs in there."""
        return self.user or (guest.login.user if guest.login else None)
