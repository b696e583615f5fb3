"""The hop at a login by remote desktop: whether a server accepts a user's password, and if not, why."""

from __future__ import annotations

from dacha.core.trace.causes.advice import Advice
from dacha.core.trace.causes.refused import why_barred
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import NO_ANSWER

IN, REFUSED, UNASKED = "in", "refused", "not asked"
# A server's error (NTSTATUS, MS-ERREF section 2.3.1): its meaning, and the command for the guest (a Windows shell).
_WORDS = {
    0xC0000064: ("there is no such user", ""),
    0xC000006A: ("the password is wrong", ""),
    0xC000006D: ("the user name or the password is wrong", ""),
    0xC000006E: ("the account is restricted: an empty password works only at the local screen", ""),
    0xC000006F: ("the account may not log in at this hour", "net user {user} /times:all"),
    0xC0000070: ("the account may not log in from this machine", "net user {user} /workstations:*"),
    0xC0000071: ("the password has expired", "net user {user} /logonpasswordchg:no"),
    0xC0000072: ("the account is disabled", "net user {user} /active:yes"),
    0xC000015B: ("the user may not log in by remote desktop", 'net localgroup "Remote Desktop Users" {user} /add'),
    0xC0000193: ("the account has expired", "net user {user} /expires:never"),
    0xC0000224: ("the password must be changed first", "net user {user} /logonpasswordchg:no"),
    0xC0000234: ("the account is locked after too many wrong passwords", "net user {user} /active:yes"),
}


def login_by_password(e: Evidence) -> Hop:
    """The hop for an RDP door where a user's password was tried."""
    seen = e.login
    assert seen is not None
    user, again = seen.user, f"dacha guest password {e.guest} {seen.user}"
    if seen.result == UNASKED:
        return Hop("login", UNTESTED, f"{user} was not tried: {seen.said}")
    if seen.result == NO_ANSWER:
        return Hop("login", UNTESTED, f"no result for the password of {user}: {seen.said}")
    if seen.result == REFUSED:
        error = int(seen.cause, 16) if seen.cause else 0
        what = f"{user} is refused" + (f" (error {error:08X})" if error else "")
        if barred := why_barred(e.inside, user, e.now):
            remedy = barred.advice.said(e.guest, e.by) if barred.advice else _account(e, user)
            return Hop("login", BROKEN, what, barred.means, remedy)
        means, command = _WORDS.get(error, ("the user name or the password is wrong", ""))
        advice = Advice(command.format(user=user)) if command else None
        return Hop("login", BROKEN, what, means, advice.said(e.guest, e.by) if advice else again)
    if barred := why_barred(e.inside, user, e.now):
        remedy = barred.advice.said(e.guest, e.by) if barred.advice else _account(e, user)
        return Hop(
            "login",
            BROKEN,
            f"{user} is disconnected right after login, although the password is correct",
            barred.means,
            remedy,
        )
    if e.inside and user in e.inside.at_screen:
        means = "a server that allows one desktop per user then shows a blank screen"
        what = f"the password for {user} is correct, but {user} is already logged in on the guest's local screen"
        return Hop("login", ASIDE, what, means, f"dacha screen {e.guest}, and log {user} out there")
    return Hop("login", FINE, f"{user} can log in with this password{seen.said}")


def _account(e: Evidence, user: str) -> str:
    """The remedy for a user without an account: the lab file lists the accounts."""
    return f"name {user} in the setup of {e.guest} (user), then: dacha guest first-boot {e.guest} --again"
