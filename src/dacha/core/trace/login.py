"""The hop at the login: whether the lab file's user can log in with the lab file's key, and if not, why.

The progress of the client excludes causes: a key that the server accepted is known there, and so is its user. If
several causes remain, all are listed, the likeliest first, with the test that tells them apart; nothing in the guest is
changed for a cause that is not proved. docs/trace.md has the table.
"""

from __future__ import annotations

from dacha.core.trace.causes.advice import SERVER_LOG, Advice
from dacha.core.trace.causes.cause import Cause
from dacha.core.trace.causes.refused import waited_for, why_refused
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.password import login_by_password
from dacha.core.trace.seen.client import NO_METHOD
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import IN, NO_ANSWER, PUT_OUT, LoginSeen

# By what the client's messages prove: the meaning for this user, and the remedy.
_PROVED = {
    "too many keys": (
        "the client offered more keys than the server accepts",
        Advice(words="raise MaxAuthTries in /etc/ssh/sshd_config, or list fewer keys"),
    ),
    "nologin": ("the shell of {user} refuses every login", Advice("usermod --shell /bin/sh {user}")),
    "expired": ("the account of {user} has expired", Advice("chage --expiredate -1 {user}")),
    "password expired": (
        "the password of {user} has expired",
        Advice("chage --maxdays -1 --lastday $(date +%F) {user}"),
    ),
    "booting": (
        "the guest is still starting, and until then only root can log in",
        Advice(words="to see what still starts: systemctl list-jobs"),
    ),
    "too many clients": (
        "its server has reached its limit of clients that have not logged in (MaxStartups)",
        Advice(words="to see who connects: ss -tn sport = :22"),
    ),
}
# What the client's messages prove, whatever else the guest reports.
_CERTAIN = {
    "more methods": (
        "the key is accepted, and its server requires another method as well (AuthenticationMethods)",
        Advice("sshd -T | grep -i authenticationmethods"),
    ),
    "key type": (
        "its server accepts no signatures of this type of key (PubkeyAcceptedAlgorithms)",
        Advice("sshd -T | grep -i pubkeyacceptedalgorithms"),
    ),
    "nothing in common": (
        "its server and the client of this host have no algorithm in common",
        Advice("sshd -T | grep -i -e ciphers -e macs -e kexalgorithms -e hostkeyalgorithms"),
    ),
    "too many logins": (
        "{user} has reached the limit of logins (maxlogins in /etc/security/limits.conf)",
        Advice("grep -r maxlogins /etc/security/limits.conf /etc/security/limits.d"),
    ),
    "no sessions": (
        "its server allows no sessions on a connection (MaxSessions)",
        Advice("sshd -T | grep -i maxsessions"),
    ),
    "other command": (
        "its server runs another command than the client's (ForceCommand, or command= in the key file), or the shell "
        "of {user} runs none",
        Advice("sshd -T -C user={user} | grep -i forcecommand; grep -n command= ~{user}/.ssh/authorized_keys"),
    ),
}
# Problems on this host, by the client's messages; {key} is the private key's file.
_HERE = {
    "other private key": (
        "the private key on this host does not match the public key beside it, which the guest has",
        "put the matching private key there: ssh-keygen -y -f {key} prints the public key of the present one",
    ),
    "cannot sign": (
        "the client cannot sign with its private key: its file is damaged, or the agent that holds it refused",
        "to examine it: ssh-keygen -y -f {key}",
    ),
}
# The remaining causes, by the progress of the client: the likeliest first.
_NOT_KNOWN = (
    "the key is not in the key file of {user}, or limited there (from=)",
    "another user owns or can write that file or a folder above it, so the server ignores it",
    "there is no user {user}, or its shell does not exist",
    "its server's settings exclude {user} or keys (AllowUsers, AllowGroups, DenyUsers, PubkeyAuthentication)",
)
_NOT_ADMITTED = (
    "only root can log in (/etc/nologin)",
    "the account of {user} has expired or is locked",
    "a rule of PAM refuses it (/etc/security/access.conf, pam_time)",
)
_ENDED = (
    "the shell of {user} ends at once, or its startup files end it",
    "a limit of the guest ends it (/etc/security/limits.conf, no memory, a full disk)",
    "its server runs another command for this key (ForceCommand, command= in the key file)",
)
_CUT = (
    "its server closed the connection before authentication: it has too many clients, restarts, or fails on its own",
    "it refuses this host's address (sshd's penalties, DenyUsers, a firewall)",
)


def login(e: Evidence) -> Hop | None:
    seen = e.login
    if seen is None:
        return None
    if e.service == "rdp":
        return login_by_password(e)
    if not seen.keys:
        return Hop(
            "login", UNTESTED, f"not tried: this host has no private key of {seen.user} that works without a passphrase"
        )
    if seen.result == IN:
        entered = f"{seen.user} can log in, with {', '.join(seen.keys)}"
        if seen.strange:
            means = f"Dacha did not install {'this key' if len(seen.strange) == 1 else 'these keys'}"
            seen_too = f"{entered}; other keys that open this account: {', '.join(seen.strange)}"
            return Hop("login", ASIDE, seen_too, means, f"dacha guest check {e.guest}")
        return Hop("login", FINE, entered)
    if seen.result == NO_ANSWER and seen.entered and (process := waited_for(e.inside)):
        what = f"{seen.user} is logged in, and its shell waits for: {process.command[:60]}"
        home = f"~{seen.user}"
        look = Advice(words=f"look for what starts it in {home}/.bashrc, {home}/.profile, /etc/bash.bashrc")
        return Hop("login", BROKEN, what, "a startup file of its shell runs that first", look.said(e.guest, e.by))
    if seen.result == NO_ANSWER and seen.entered:
        what = f"{seen.user} is logged in, and its command has not ended: {seen.said}"
        return Hop("login", UNTESTED, f"{what} (the startup files of its shell wait, or the guest is slow)")
    if seen.result == NO_ANSWER:
        why = "" if seen.host_key else " (the guest is slow, or large packets are lost on the way)"
        return Hop("login", UNTESTED, f"no answer to the login: {seen.said or 'timed out'}{why}")
    what = _how_far(seen)
    if seen.cause in _HERE:
        means, remedy = _HERE[seen.cause]
        return Hop("login", BROKEN, f"{seen.user} is refused: {seen.said}", means, remedy.format(key=seen.keys[0]))
    causes = causes_of(e, seen)
    if len(causes) == 1:
        (cause,) = causes
        remedy = cause.advice.said(e.guest, e.by) if cause.advice else _again(e)
        return Hop("login", BROKEN, what, cause.means, remedy)
    if seen.not_added and not seen.accepted:
        means = f"the lab file's key was not added to {e.guest} yet: dacha apply adds it"
        return Hop("login", BROKEN, what, means, f"dacha apply\nif that cannot log in either: {_again(e)}")
    means = "one of: " + "; ".join(cause.means for cause in causes)
    return Hop("login", BROKEN, what, means, _more(e))


def _again(e: Evidence) -> str:
    """The remedy for a user or key that the guest does not have: its first boot adds them, or a login by password."""
    if e.lab.first_boot:
        return f"dacha guest first-boot {e.guest} --again, then dacha restart {e.guest}"
    return f"dacha guest adopt {e.guest}   (it logs in once with a password, and adds the lab's key)"


def _how_far(seen: LoginSeen) -> str:
    """What was seen of a failed login, in words."""
    if seen.result == PUT_OUT:
        what = f"{seen.user} is logged in, and disconnected right after"
    elif seen.accepted:
        what = f"the key of {seen.user} is accepted, and the login refused"
    else:
        what = f"{seen.user} is refused"
    return f"{what}: {seen.said}" if seen.said else what


def causes_of(e: Evidence, seen: LoginSeen) -> list[Cause]:
    """The causes that the evidence leaves: a single one if the others are excluded."""
    user = seen.user
    if seen.cause in _CERTAIN:
        means, advice = _CERTAIN[seen.cause]
        return [Cause("", means.format(user=user), advice._replace(command=advice.command.format(user=user)))]
    told = why_refused(e.inside, seen, e.now)
    if told and told.proved:
        return [told]
    # An unproved one is listed with the others that remain.
    first = [told] if told else []
    if seen.cause in _PROVED:
        means, advice = _PROVED[seen.cause]
        return [Cause("", means.format(user=user), advice._replace(command=advice.command.format(user=user)))]
    if seen.cause == "closed":
        means = "only root can log in to the guest at the moment"
        return [Cause("", means, Advice("rm -f /etc/nologin /run/nologin"))]
    left: tuple[str, ...]
    if seen.result == PUT_OUT:
        left = _ENDED
    elif seen.accepted:
        left = _NOT_ADMITTED
    elif seen.methods and "publickey" not in seen.methods:
        words = "PubkeyAuthentication yes in /etc/ssh/sshd_config, or a file of /etc/ssh/sshd_config.d; then reload it"
        others = "nor any other method" if seen.methods == (NO_METHOD,) else f"only {', '.join(seen.methods)}"
        return [Cause("", f"its server accepts no keys, {others}", Advice(words=words))]
    elif not seen.methods and not seen.cause:
        left = _CUT
    elif user == "root":
        left = ("its server refuses root (PermitRootLogin)", *_NOT_KNOWN[:2])
    else:
        left = _NOT_KNOWN
    if told and not seen.accepted:
        left = left[-1:]  # the key is in the key file, under its limits
    return [*first, *(Cause("", text.format(user=user)) for text in left)]


def _more(e: Evidence) -> str:
    """How to tell the causes apart: the server's log has the reason of each refusal."""
    return f"its server's log has the cause: {SERVER_LOG.said(e.guest, e.by)}"
