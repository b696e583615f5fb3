"""Passwords of a guest's users, for its console and remote desktop: stored as hashes, set in a running guest. A
password is in no lab file, argument list, log or answer; SSH still requires keys."""

from __future__ import annotations

from dacha.core.errors import BadValue, UsageError
from dacha.core.lab import fields
from dacha.core.lab.model import Guest
from dacha.engine.home import Home
from dacha.engine.lab.named import guest_named
from dacha.engine.workspace import Workspace
from dacha.host.records import read_record, write_record

VERSION = 1
# Long enough against guessing at a screen, short enough to be typed; no characters that look alike.
MADE, SIGNS = 16, "abcdefghjkmnpqrstuvwxyzABCDEFGHJKMNPQRSTUVWXYZ23456789"
SALT = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"


def made() -> str:
    """A random password."""
    return _chosen(SIGNS, MADE)


def _chosen(signs: str, number: int) -> str:
    """That many random characters. (The module for it is imported here: commands that only look at passwords do not
    need it.)"""
    import secrets

    return "".join(secrets.choice(signs) for _ in range(number))


def hashes(home: Home, guest: str) -> dict[str, str]:
    """The users of a guest that have a password, each with its hash."""
    kept = read_record(home.passwords(guest), VERSION).get("users")
    return {str(user): str(value) for user, value in kept.items()} if isinstance(kept, dict) else {}


def plain(home: Home, guest: str) -> dict[str, str]:
    """Plain passwords, for an installer that accepts no hash; deleted at the end of the installation."""
    kept = read_record(home.passwords(guest), VERSION).get("plain")
    return {str(user): str(value) for user, value in kept.items()} if isinstance(kept, dict) else {}


def forget_plain(home: Home, guest: str) -> None:
    """Delete plain passwords, keep the hashes."""
    if plain(home, guest):
        write_record(home.passwords(guest), VERSION, {"users": hashes(home, guest)}, mode=0o600)


def needs_plain(guest: Guest) -> bool:
    """True for a guest whose installer accepts no hash."""
    return guest.system == "windows" and guest.install is not None


def user_of(guest: Guest, named: str | None) -> str:
    """The specified user, else the login user. Raises UsageError."""
    user = named or (guest.login.user if guest.login else None)
    if user is None:
        raise UsageError(
            f"{guest.name} has no login user",
            remedy=f"specify a user: dacha guest password {guest.name} USER",
        )
    try:
        return fields.user(user)
    except BadValue as e:
        raise UsageError(e.what, remedy=e.remedy) from None


def keep(ws: Workspace, name: str, user: str, password: str) -> str:
    """Store the hash of a password for the guest's first boot, and return it. Raises UsageError, HostError."""
    guest = guest_named(ws, name)
    if not password or "\n" in password or "\0" in password:
        raise UsageError("a password must be one line, and not empty", remedy="type one, or have one generated: --make")
    from dacha.formats.sha512_crypt import SALT_MOST, sha512_crypt

    hashed = sha512_crypt(password.encode(), _chosen(SALT, SALT_MOST))
    with ws.home.lock("guest password", ws.path):
        ws.home.make_guest(name)
        users = hashes(ws.home, name) | {user: hashed}
        as_it_is = plain(ws.home, name)
        if needs_plain(guest) and ws.home.read(name).installed != guest.install:
            as_it_is[user] = password
        write_record(ws.home.passwords(name), VERSION, {"users": users, "plain": as_it_is}, mode=0o600)
        if not ws.home.is_running(name):
            # Its next start writes its first-boot data again, with this hash.
            (ws.home.guest(name) / "seed.iso").unlink(missing_ok=True)
    return hashed
