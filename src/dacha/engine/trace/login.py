"""A login tried as the lab file's user, and what the guest's agent tells of itself."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Callable
from functools import partial
from itertools import pairwise
from pathlib import Path

from dacha.core.harmless import harmless_lines
from dacha.core.lab.model import Guest
from dacha.core.people.sessions_inside import TAIL, strangers_among
from dacha.core.trace.evidence import NO_ANSWER, SILENT, UNREACHABLE, ConnectResult, Evidence, LoginSeen
from dacha.core.trace.inside import Inside, questions, read_inside
from dacha.core.trace.login import IN, PUT_OUT, REFUSED, seen_from
from dacha.engine.guest.console import panic_in, recent
from dacha.engine.guest.keys import accounts_of
from dacha.engine.inside.ssh import identities, trust_options
from dacha.engine.trace.asking import Asked, Asking
from dacha.engine.trace.password import try_password
from dacha.engine.workspace import Workspace
from dacha.formats.openssh import needs_passphrase
from dacha.host.bounded import run_bounded
from dacha.host.facts import program
from dacha.hypervisor.monitor import agent

# A trace with all that takes no longer (seconds).
LONGEST_S = 9.5
# An agent that was too busy to answer at once is asked again for so long.
AGENT_S = 1.0
# A user's name that may stand in a script as it is.
_PLAIN = re.compile(r"[a-z_][a-z0-9_.-]{0,31}")


def try_login(
    ws: Workspace, guest: Guest, place: tuple[str, int], limit_s: float, who: str | None = None
) -> LoginSeen | None:
    """Log in at a place, as `who` (else the lab file's user), and run the least command that every shell knows; None
    where nobody is named who may, or this host has no client. Nothing is typed: no password is asked for."""
    ssh, login = program("ssh"), guest.login
    if ssh is None or login is None:
        return None
    user = who or login.user
    found = identities(ws, guest)
    files = [Path(word) for before, word in pairwise(found) if before == "-i"]
    names = tuple(f.name for f in files)
    opens = [f for f in files if _opens(f)]
    if not opens and not (files and os.environ.get("SSH_AUTH_SOCK")):
        # None is here, or none that may be read, or none without a passphrase, which is not asked for.
        return LoginSeen(user)
    argv = [ssh, "-F", "/dev/null", "-p", str(place[1]), "-l", user, *trust_options(ws, guest), *found]
    for option in (f"ConnectTimeout={max(1, int(limit_s))}", "BatchMode=yes", "PreferredAuthentications=publickey",
                   "ClearAllForwardings=yes", "RequestTTY=no"):  # fmt: skip
        argv += ["-o", option]
    # The least that every shell knows, and with it the keys that open the account.
    command = "exit 0" if guest.system == "windows" else "cat .ssh/authorized_keys; exit 0"
    said = run_bounded([*argv, place[0], command], limit_s)
    if said.code is None:
        return LoginSeen(user, names, NO_ANSWER, "", f"none within {limit_s:.0f} s")
    # Cut without a word after the greeting: whoever refuses an account in this way says nothing of it.
    low = said.text.lower()
    closed = "closed by" in low and "verification failed" not in low
    seen = seen_from(user, names, said.code, harmless_lines(said.text.replace("\r", "")), closed)
    # Refused without a key that opens by itself: the fault may as well be on this side.
    if seen.cause == "refused" and not opens:
        return LoginSeen(user)
    strange = strangers_among(said.text, accounts_of(ws, guest).get(user)) if seen.result == IN else ()
    return seen._replace(
        tails=tuple(_tail(f.with_name(f.name + ".pub")) for f in files), strange=tuple(map(str, strange))
    )


def _tail(public: Path) -> str:
    """The last letters of a public key, by which it is told from others."""
    try:
        return public.read_text(errors="replace").split()[1][-TAIL:]
    except (OSError, IndexError):
        return ""


def _opens(key: Path) -> bool:
    """True for a private key that this user may read, and that needs no passphrase."""
    try:
        return not needs_passphrase(key.read_text(errors="replace"))
    except OSError:
        return False


def look_inside(ws: Workspace, guest: Guest, service: str, limit_s: float, who: str | None = None) -> Inside | None:
    """What the guest's agent tells, of `who` (else the lab file's user), where it may run commands; None for a guest
    that does not tell."""
    user = who if who and _PLAIN.fullmatch(who) else guest.login.user if guest.login else "root"
    said = agent.run_script(ws.home.run(guest.name), questions(user, service), limit_s)
    return read_inside(said) if said is not None else None


def with_inside(ws: Workspace, guest: Guest, e: Evidence, target: tuple[str, int] | None, asked: Asked) -> Evidence:
    """The evidence with a login to a server that answers at `target`, and where something keeps people out, with what
    the guest itself tells. All together take no longer than a trace may."""
    run = ws.home.run(guest.name)
    asking, left = Asking(), max(1.0, LONGEST_S - e.took_s) + asked.wait_s
    heard = e.through if e.way == "user" else e.direct
    unanswered = dict(e.unanswered)
    logs_in: Callable[[], LoginSeen | None] | None = None
    if target and heard and heard.ok and e.service == "ssh" and asked.login and e.key is not False:
        logs_in = partial(try_login, ws, guest, target, left, asked.user)
    elif target and heard and heard.ok and e.service == "rdp" and asked.user and asked.password is not None:
        logs_in = partial(try_password, ws, guest, target, asked.user, asked.password, left)
    if logs_in:
        asking.ask({"login": logs_in})
        asking.wait(left + 0.2)
        e = e._replace(login=asking.told().get("login"))
        unanswered |= asking.unanswered()
        if e.login is None or e.login.result == NO_ANSWER:
            # Its system may have given up since it greeted.
            with contextlib.suppress(OSError):
                e = e._replace(panic=panic_in(recent(ws.home, guest.name)))
    if (
        e.inside is None
        and _worth_asking(e, heard)
        and guest.system != "windows"
        and (e.agent or agent.addresses(run, AGENT_S) is not None)
    ):
        rest = max(2.0, left - asking.took_s)
        asking.ask({"inside": lambda: look_inside(ws, guest, e.service, rest, asked.user)})
        asking.wait(rest + 0.2)
        e = e._replace(inside=asking.told().get("inside"))
    return e._replace(unanswered=tuple(unanswered.items()))


def _worth_asking(e: Evidence, heard: ConnectResult | None) -> bool:
    """Whether what the guest tells of itself may explain something: it is shut, it refuses somebody, it answers its own
    network alone; or a desktop that may be blank."""
    shut = heard is not None and not heard.ok
    refused = e.login is not None and (e.service == "rdp" or e.login.result in (REFUSED, PUT_OUT))
    beyond = e.reply is not None and e.reply.how in (SILENT, UNREACHABLE)
    return shut or refused or beyond
