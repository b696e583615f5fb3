"""The hop at the login: whether the lab file's user gets in with the lab file's key, and if not, why."""

from __future__ import annotations

from dacha.core.trace.advice import Advice
from dacha.core.trace.evidence import NO_ANSWER, Evidence, LoginSeen
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.password import login_by_password
from dacha.core.trace.told import Cause, why_refused

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
    if e.service == "rdp":
        return login_by_password(e)
    if not seen.keys:
        return Hop("login", UNTESTED, f"not tried: no private key of {seen.user} is here that opens by itself")
    if seen.result == IN:
        entered = f"{seen.user} gets in, with {', '.join(seen.keys)}"
        if seen.strange:
            means = f"the lab did not put {'this key' if len(seen.strange) == 1 else 'these keys'} there"
            seen_too = f"{entered}; so does whoever has {', '.join(seen.strange)}"
            return Hop("login", ASIDE, seen_too, means, f"dacha guest check {e.guest}")
        return Hop("login", FINE, entered)
    if seen.result == NO_ANSWER:
        return Hop("login", UNTESTED, f"no answer to it: {seen.said or 'its time was over'}")
    cause = _cause(e, seen)
    again = f"dacha guest first-boot {e.guest} --again, then dacha restart {e.guest}"
    remedy = cause.advice.said(e.guest, by_agent=e.inside is not None) if cause.advice else again
    what = f"{seen.user} is {'put out again' if seen.result == PUT_OUT else 'refused'}"
    return Hop("login", BROKEN, f"{what}: {seen.said}" if seen.said else what, cause.means, remedy)


def _cause(e: Evidence, seen: LoginSeen) -> Cause:
    """The cause, by the client's words and by what the guest tells of itself."""
    user = seen.user
    if told := why_refused(e.inside, user, seen.tails, e.now):
        return told
    if seen.cause == "too many keys":
        means = "more keys were offered than its server takes"
        return Cause("", means, Advice(words="raise MaxAuthTries in /etc/ssh/sshd_config, or name fewer keys"))
    if seen.cause == "nologin":
        return Cause("", f"the shell of {user} lets nobody in", Advice(f"usermod --shell /bin/sh {user}"))
    if seen.cause == "expired":
        return Cause("", f"the account of {user} has expired", Advice(f"chage --expiredate -1 {user}"))
    if seen.cause == "password expired":
        means = f"the password of {user} has expired"
        return Cause("", means, Advice(f"chage --maxdays -1 --lastday $(date +%F) {user}"))
    if seen.cause == "closed":
        return Cause("", "the guest lets nobody in for now", Advice("rm /etc/nologin"))
    if user == "root":
        means = "its server may refuse root (PermitRootLogin)"
        return Cause(
            "",
            means,
            Advice(words="PermitRootLogin prohibit-password in /etc/ssh/sshd_config, or log in as another user"),
        )
    means = f"the guest does not know {user}, or not this key: its key file is gone, changed, or others may write it"
    return Cause("", means)
