"""People who may enter guests of the lab."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from dacha.core.lab.kinds import Origin
    from dacha.core.lab.model import Guest

# The value of `enters` for every guest.
EVERYTHING = "all"


def is_key(written: str) -> bool:
    """True for an entry of `keys` that is a public key itself, not a file name (RFC 4253 section 6.6)."""
    kind, *rest = written.split(maxsplit=2)[:2] or [""]
    # A path such as "ssh-keys/kim.pub" has the same start, but also a slash, or no second word.
    return kind.startswith(("ssh-", "ecdsa-", "sk-")) and "/" not in kind and rest != []


class Entry(NamedTuple):
    """What a person may enter: a guest, or one `door` of it."""

    guest: str
    door: str | None = None

    def __str__(self) -> str:
        return f"{self.guest} {self.door}" if self.door else self.guest


class Person(NamedTuple):
    """A person: `keys` are public keys or files with such; `origin` (the file's `from`) is the farthest place they
    connect from; `user` is their own account in the guests, None for the login user's."""

    name: str
    keys: tuple[str, ...] = ()
    enters: tuple[Entry, ...] = ()
    everything: bool = False
    origin: Origin = "lan"
    user: str | None = None

    def may_enter(self, guest: Guest, door: str | None = None) -> bool:
        """True if they may enter the guest at all, or through this `door` of it."""
        if self.everything:
            return True
        mine = [e for e in self.enters if e.guest == guest.name]
        return any(door is None or e.door in (None, door) for e in mine)

    def enters_by_ssh(self, guest: Guest) -> bool:
        """True if their keys belong into the guest: they may enter all of it, or one of its SSH doors."""
        speaks = {d.name for d in guest.doors if d.service == "ssh"}
        mine = [e for e in self.enters if e.guest == guest.name]
        return self.everything or any(e.door is None or e.door in speaks for e in mine)

    def account(self, guest: Guest) -> str | None:
        """Their account in the guest; None if the guest has no login user."""
        return self.user or (guest.login.user if guest.login else None)
