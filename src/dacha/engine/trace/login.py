"""A login as the lab file's user, with OpenSSH's own client."""

from __future__ import annotations

import os
from itertools import pairwise
from pathlib import Path

from dacha.core.harmless import harmless_lines
from dacha.core.lab.model import Guest
from dacha.core.people.sessions_inside import TAIL, strangers_among
from dacha.core.trace.seen.client import FAILED, IN_WORD, read_client
from dacha.core.trace.seen.results import IN, NO_ANSWER, REFUSED_LOGIN, LoginSeen
from dacha.engine.guest.keys import accounts_of
from dacha.engine.inside.identities import identities, keys_in
from dacha.engine.inside.ssh import trust_options
from dacha.engine.workspace import Workspace
from dacha.formats.openssh import needs_passphrase
from dacha.host.bounded import run_bounded
from dacha.host.facts import program


def try_login(
    ws: Workspace, guest: Guest, place: tuple[str, int], limit_s: float, who: str | None = None
) -> LoginSeen | None:
    """Log in at an address, as `who` (else the lab file's user), and run a command that every shell supports; None
    without a login user, or without a client on this host. There are no prompts."""
    ssh, login = program("ssh"), guest.login
    if ssh is None or login is None:
        return None
    user = who or login.user
    found = identities(ws, guest)
    files = _key_files(found)
    names = tuple(f.name for f in files)
    opens = [f for f in files if _opens(f)]
    if not has_key(ws, guest):
        # None is here, or none is readable, or none without a passphrase.
        return LoginSeen(user)
    argv = [ssh, "-v", "-F", "/dev/null", "-p", str(place[1]), "-l", user, *trust_options(ws, guest), *found]
    for option in (f"ConnectTimeout={max(1, int(limit_s))}", "BatchMode=yes", "PreferredAuthentications=publickey",
                   "ClearAllForwardings=yes", "RequestTTY=no"):  # fmt: skip
        argv += ["-o", option]
    # A minimal command for every shell, and the keys that open the account.
    word = guest.system != "windows"
    command = f"echo {IN_WORD}; cat .ssh/authorized_keys; exit 0" if word else "exit 0"
    said = run_bounded([*argv, place[0], command], limit_s)
    text = harmless_lines(said.text.replace("\r", ""))
    if said.code is None:
        seen = read_client(user, names, FAILED, text)
        return seen._replace(result=NO_ANSWER, said=f"no answer within {limit_s:.0f} s")
    seen = read_client(user, names, said.code, text, word=word)
    # Refused without a usable key: the fault may be on this side.
    if seen.result == REFUSED_LOGIN and not seen.accepted and not opens:
        return LoginSeen(user, host_key=seen.host_key)
    strange = strangers_among(said.text, accounts_of(ws, guest).get(user)) if seen.result == IN else ()
    public = [_public(f.with_name(f.name + ".pub")) for f in files]
    inside = keys_in(ws, guest, user)
    return seen._replace(
        not_added=inside is not None and not inside & set(public),
        tails=tuple(data[-TAIL:] for _, data in public),
        types=tuple(dict.fromkeys(kind for kind, _ in public if kind)),
        strange=tuple(map(str, strange)),
    )


def _key_files(found: list[str]) -> list[Path]:
    return [Path(word.replace("%%", "%")) for before, word in pairwise(found) if before == "-i"]


def has_key(ws: Workspace, guest: Guest) -> bool:
    """True if this host has a private key of the guest's login that works without a prompt, or through an SSH agent."""
    files = _key_files(identities(ws, guest))
    return any(map(_opens, files)) or bool(files and os.environ.get("SSH_AUTH_SOCK"))


def _public(file: Path) -> tuple[str, str]:
    """A public key: its type, and itself, whose final characters identify it."""
    try:
        kind, data = file.read_text(errors="replace").split()[:2]
    except (OSError, ValueError):
        return "", ""
    return kind, data


def _opens(key: Path) -> bool:
    """True for a private key that this user can read, and that has no passphrase."""
    try:
        return not needs_passphrase(key.read_text(errors="replace"))
    except OSError:
        return False
