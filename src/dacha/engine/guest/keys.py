"""Keys in the lab file."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

from dacha.core.errors import BadValue, UsageError
from dacha.core.lab.model import Guest
from dacha.core.lab.person import is_key
from dacha.core.people.accounts import accounts, own_accounts
from dacha.core.people.keys_inside import WantedKeys
from dacha.engine.workspace import Workspace


def key_line(ws: Workspace, written: str) -> str:
    """The authorized_keys line for one entry of `keys`: a .pub file, or the key itself. Raises BadValue."""
    from dacha.formats.openssh import public_line

    if is_key(written):
        return public_line(written)
    path = ws.resolve(written)
    try:
        return public_line(path.read_text())
    except FileNotFoundError:
        raise BadValue(f"no key file {path} exists", "create one: ssh-keygen -t ed25519") from None
    except UnicodeDecodeError:
        raise BadValue(f"{path} is not a public key", "use a file that ends in .pub") from None
    except OSError as e:
        raise BadValue(
            f"{path} cannot be read: {e.strerror}", f"make it readable, or use another file: {path}"
        ) from None


def accounts_of(ws: Workspace, guest: Guest) -> dict[str, list[str]]:
    """Every account that the lab creates in a guest, with its lines of authorized_keys, each once. Unreadable keys are
    omitted: `engine.check` reports them, and prevents the start."""
    found = {}
    for account, written in accounts(ws.lab, guest).items():
        lines: dict[str, None] = {}
        for key in written:
            with contextlib.suppress(ValueError):
                lines[key_line(ws, key)] = None
        found[account] = list(lines)
    return found


def key_lines(ws: Workspace, written: Sequence[str]) -> list[str]:
    """The lines of authorized_keys for entries of `keys`. Raises UsageError for a key that cannot be read."""
    try:
        return [key_line(ws, key) for key in written]
    except BadValue as e:
        raise UsageError(e.what, remedy=e.remedy) from None


def wanted_keys(ws: Workspace) -> dict[str, WantedKeys]:
    """The accounts and keys that every guest should have, by guest, except guests whose accounts Dacha cannot change
    while they run."""
    guests = [g for g in ws.lab.guests.values() if g.system != "windows"]
    entered = {g.name: any(p.may_enter(g) for p in ws.lab.people.values()) for g in guests}
    return {g.name: WantedKeys(accounts_of(ws, g), own_accounts(ws.lab, g), entered[g.name]) for g in guests}
