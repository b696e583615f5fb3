"""The hop at the login: whether the lab file's user gets in with the lab file's key, and if not, why."""

from __future__ import annotations

from dacha.core.named import NamedTuple
from dacha.core.trace.evidence import NO_ANSWER, Evidence, LoginSeen
from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.inside import FULL, Inside

IN, REFUSED, PUT_OUT = "in", "refused", "put out"
# What a client or a shell says, and what that is.
_WORDS = (
    ("too many authentication failures", "too many keys"),
    ("account is currently not available", "nologin"),
    ("account has expired", "expired"),
    ("password has expired", "password expired"),
    ("password change required", "password expired"),
    ("not permitted to log in", "closed"),
    ("system is going down", "closed"),
    ("permission denied", "refused"),
)


class Cause(NamedTuple):
    """Why somebody does not get in, and what to type in the guest ("" where that is not one command)."""

    means: str
    command: str


def seen_from(user: str, keys: tuple[str, ...], code: int, said: str, closed: bool) -> LoginSeen:
    """What came of a login, from the client's exit code and words; `closed` where it ended without a word of its own
    after it was let in or cut."""
    low = said.lower()
    cause = next((name for words, name in _WORDS if words in low), "")
    last = next((line.strip() for line in reversed(said.splitlines()) if line.strip()), "")[:120]
    if code == 0:
        return LoginSeen(user, keys, IN)
    if code != 255:
        # The client got in, and the user's shell would not run the least command.
        return LoginSeen(user, keys, PUT_OUT, cause or "nologin", last)
    return LoginSeen(user, keys, REFUSED if cause or closed else NO_ANSWER, cause, last)


def login(e: Evidence) -> Hop | None:
    seen = e.login
    if seen is None:
        return None
    if not seen.keys:
        return Hop("login", UNTESTED, f"not tried: no private key of {seen.user} is here that opens by itself")
    if seen.result == IN:
        return Hop("login", FINE, f"{seen.user} gets in, with {', '.join(seen.keys)}")
    if seen.result == NO_ANSWER:
        return Hop("login", UNTESTED, f"no answer to it: {seen.said or 'its time was over'}")
    cause = _cause(e, seen)
    again = f"dacha guest first-boot {e.guest} --again, then dacha restart {e.guest}"
    remedy = f"dacha console {e.guest}, then: {cause.command}" if cause.command else again
    what = f"{seen.user} is {'put out again' if seen.result == PUT_OUT else 'refused'}"
    return Hop("login", BROKEN, f"{what}: {seen.said}" if seen.said else what, cause.means, remedy)


def _cause(e: Evidence, seen: LoginSeen) -> Cause:
    """The cause, by the client's words and by what the guest tells of itself."""
    user, inside = seen.user, e.inside
    if told := _told_inside(inside, user):
        return told
    if seen.cause == "too many keys":
        return Cause("more keys were offered than its server takes", "raise MaxAuthTries, or name fewer keys")
    if seen.cause == "nologin":
        return Cause(f"the shell of {user} lets nobody in", f"give {user} a shell in /etc/passwd, such as /bin/sh")
    if seen.cause == "expired":
        return Cause(f"the account of {user} has expired", f"chage --expiredate -1 {user}")
    if seen.cause == "password expired":
        return Cause(f"the password of {user} has expired", f"chage --maxdays -1 {user}")
    if seen.cause == "closed":
        return Cause("the guest lets nobody in for now", "rm /etc/nologin")
    if user == "root":
        return Cause("its server may refuse root (PermitRootLogin)", "")
    return Cause(
        f"the guest does not know {user}, or not this key: its key file is gone, changed, or others may write it", ""
    )


def _told_inside(inside: Inside | None, user: str) -> Cause | None:
    if inside is None:
        return None
    if inside.shell is None:
        return Cause(f"there is no {user} in the guest", "")
    if inside.closed is not None:
        return Cause(f"the guest lets nobody but root in for now: {inside.closed}", "rm /etc/nologin")
    if not inside.shell_there:
        return Cause(f"the shell of {user}, {inside.shell}, is not there", f"usermod --shell /bin/sh {user}")
    if inside.shell.rpartition("/")[2] in ("nologin", "false"):
        return Cause(f"the shell of {user}, {inside.shell}, lets nobody in", f"usermod --shell /bin/sh {user}")
    if inside.expires is not None and inside.expires <= inside.today:
        return Cause(f"the account of {user} has expired", f"chage --expiredate -1 {user}")
    if inside.keys is None:
        return Cause(f"{user} has no key file there", "")
    _, _, owner = inside.mode.partition(" ")
    bits = inside.mode.partition(" ")[0]
    if owner not in (user, "root") or (bits[-2:-1] in tuple("2367") or bits[-1:] in tuple("2367")):
        where = f"~{user}/.ssh/authorized_keys"
        means = f"its key file is {owner}'s, mode {bits}: its server trusts no file that others may write"
        return Cause(means, f"chown {user}: {where}; chmod 600 {where}")
    if inside.disk is not None and inside.disk >= FULL:
        return Cause(f"its disk is full ({inside.disk} %)", "df -h shows what fills it")
    return None
