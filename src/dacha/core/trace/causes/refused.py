"""Why a login is refused, or ends at once."""

from __future__ import annotations

import shlex
from datetime import UTC, datetime
from fnmatch import fnmatchcase as fnmatch

from dacha.core.trace.causes.advice import SERVER_LOG, Advice
from dacha.core.trace.causes.cause import Cause
from dacha.core.trace.seen.client import IN_WORD
from dacha.core.trace.seen.inside import Inside, others_write
from dacha.core.trace.seen.questions import ACCOUNT, SERVER
from dacha.core.trace.seen.reported import Process
from dacha.core.trace.seen.results import PUT_OUT, LoginSeen
from dacha.core.units import show_duration

# A disk that is this full (percent) prevents logins; a clock that deviates this much (seconds) explains expired
# accounts.
FULL, CLOCK_S = 98, 86400
# With this code OpenSSH's server ends a login whose session PAM did not open.
NO_PAM_SESSION = 254
# The signatures of a type of key that has others than its own name (RFC 8332).
_ALGORITHMS = {"ssh-rsa": ("ssh-rsa", "rsa-sha2-256", "rsa-sha2-512")}


def why_refused(inside: Inside | None, seen: LoginSeen, now: float) -> Cause | None:
    """Why a login is refused, or ends at once. If the server accepted a key, it knows user and key; if the user
    entered, the account is open, too."""
    if inside is None:
        return None
    barred = why_barred(inside, seen.user, now)
    if barred and not (seen.entered and inside.closed is not None):
        return barred
    if not seen.accepted:
        found = _of_server(inside, seen.user, seen.types) or _of_key_file(inside, seen.user, seen.tails)
        return found or _of_log(inside)
    if seen.result == PUT_OUT and (forced := _of_command(inside, seen)):
        return forced
    if inside.disk is not None and inside.disk >= FULL and not inside.log:
        advice = Advice(words="df -h shows what fills it")
        return Cause("", f"its disk is full ({inside.disk} %)", advice, proved=False)
    return _of_log(inside)


def waited_for(inside: Inside | None) -> Process | None:
    """What the shell of a login waits for that has not begun with its command: the shell's child."""
    shells = {p.pid for p in inside.running if IN_WORD in p.command} if inside else set()
    return next((p for p in reversed(inside.running) if p.parent in shells), None) if inside else None


def why_barred(inside: Inside | None, user: str, now: float) -> Cause | None:
    """What prevents any login of a user: no such user, logins closed, the shell, the account."""
    if inside is None or not inside.knows(ACCOUNT):
        return None
    if inside.shell is None:
        return Cause("", f"there is no {user} in the guest")
    if inside.closed is not None and user != "root":
        means = f"only root can log in to the guest at the moment: {inside.closed}"
        return Cause("", means, Advice("rm /etc/nologin"))
    shell = Advice(f"usermod --shell /bin/sh {user}")
    if not inside.shell_there:
        return Cause("", f"the shell of {user}, {inside.shell}, does not exist, or is not executable", shell)
    if inside.shell.rpartition("/")[2] in ("nologin", "false"):
        return Cause("", f"the shell of {user}, {inside.shell}, refuses every login", shell)
    return _of_account(inside, user, now)


def _of_account(inside: Inside, user: str, now: float) -> Cause | None:
    if inside.expires is not None and inside.expires <= inside.today:
        if now and abs(inside.clock - now) > CLOCK_S and inside.expires > now // 86400:
            way = "ahead" if inside.clock > now else "behind"
            means = f"its clock is {show_duration(abs(inside.clock - now))} {way}, so it considers the account expired"
            right = datetime.fromtimestamp(now, UTC).strftime("%Y-%m-%d %H:%M:%S")
            return Cause("", means, Advice(f"date -u -s '{right}'"))
        return Cause("", f"the account of {user} has expired", Advice(f"chage --expiredate -1 {user}"))
    if inside.must:
        means = f"the password for {user} must be changed first"
        return Cause("", means, Advice(f"chage --lastday {inside.today} {user}"))
    return None


def _of_server(inside: Inside, user: str, types: tuple[str, ...]) -> Cause | None:
    """What the settings of the SSH server say about keys and this user."""
    words = "in /etc/ssh/sshd_config, or a file of /etc/ssh/sshd_config.d; then: systemctl reload ssh"
    for word, value in inside.settings:
        named = value.split()
        if word == "pubkeyauthentication" and value != "yes":
            return Cause("", "its server does not accept keys", Advice(words=f"PubkeyAuthentication yes {words}"))
        if word == "permitrootlogin" and user == "root" and value in ("no", "forced-commands-only"):
            means = f"its server does not let root log in (PermitRootLogin {value})"
            return Cause("", means, Advice(words=f"PermitRootLogin prohibit-password {words}"))
        if word == "authorizedkeysfile" and ".ssh/authorized_keys" not in value:
            means = f"its server reads keys from another file: {value}"
            return Cause("", means, Advice(words=f"AuthorizedKeysFile .ssh/authorized_keys {words}"))
        if word == "denyusers" and user in named:
            return Cause("", f"its server denies {user} (DenyUsers)", Advice(words=f"remove {user} there, {words}"))
        if word == "allowusers" and not any(user == x.partition("@")[0] or "*" in x for x in _all(inside, word)):
            means = f"its server allows only {', '.join(_all(inside, word))} (AllowUsers)"
            return Cause("", means, Advice(words=f"add {user} there, {words}"))
        if word == "authenticationmethods" and "any" not in named and "publickey" not in named:
            means = f"its server requires more than a key: {value} (AuthenticationMethods)"
            return Cause("", means, Advice(words=f"AuthenticationMethods publickey {words}"))
    ours = [a for kind in types for a in _ALGORITHMS.get(kind, (kind,))]
    if ours and inside.algorithms and not set(ours) & set(inside.algorithms):
        means = f"its server accepts no keys of the type {' or '.join(types)} (PubkeyAcceptedAlgorithms)"
        return Cause("", means, Advice(words=f"add the type there, {words}"))
    if inside.groups is None:
        return None
    allowed = _all(inside, "allowgroups")
    if allowed and not any(fnmatch(g, x) for g in inside.groups for x in allowed):
        means = f"its server allows only the groups {', '.join(allowed)} (AllowGroups), and {user} is in none of them"
        return Cause("", means, Advice(f"usermod --append --groups {shlex.quote(allowed[0])} {user}"))
    if denied := [g for g in inside.groups for x in _all(inside, "denygroups") if fnmatch(g, x)]:
        means = f"its server denies the group {denied[0]} (DenyGroups), and {user} is in it"
        return Cause("", means, Advice(words=f"remove {denied[0]} there, {words}"))
    return None


def _of_command(inside: Inside, seen: LoginSeen) -> Cause | None:
    """Why the command of a login did not run: the server runs another one (ForceCommand), PAM opened no session, or the
    shell itself ended."""
    if not inside.knows(SERVER) or not inside.settings:
        return None
    forced = next((value for word, value in inside.settings if word == "forcecommand" and value != "none"), "")
    if forced:
        words = "in /etc/ssh/sshd_config, or a file of /etc/ssh/sshd_config.d; then: systemctl reload ssh"
        means = f"its server runs another command in each login: {forced} (ForceCommand)"
        return Cause("", means, Advice(words=f"remove ForceCommand {words}"))
    if seen.code is None or not inside.shell or any("command=" in options for _, options in inside.limits):
        return None
    if seen.code == NO_PAM_SESSION:
        means = "PAM does not open a session (/etc/pam.d/sshd): a module of it is missing, or refuses"
        return None if inside.log else Cause("", means, SERVER_LOG, proved=False)
    means = f"the shell of {seen.user}, {inside.shell}, or its startup files end the session (exit code {seen.code})"
    home = f"~{seen.user}"
    return Cause("", means, Advice(words=f"look for what ends it in {home}/.bashrc, {home}/.profile, /etc/bash.bashrc"))


def _all(inside: Inside, word: str) -> list[str]:
    """All values of a setting that may be on several lines."""
    return [x for name, value in inside.settings if name == word for x in value.split()]


def _of_key_file(inside: Inside, user: str, ours: tuple[str, ...]) -> Cause | None:
    if not inside.knows(ACCOUNT):
        return None
    if inside.no_home:
        words = f"restore {inside.no_home}, or create it, with the lab's key in .ssh/authorized_keys (dacha key show)"
        return Cause("", f"the home directory of {user}, {inside.no_home}, does not exist", Advice(words=words))
    if inside.not_file:
        words = f"move {inside.not_file} away, and restore the file, with the lab's key (dacha key show)"
        return Cause("", f"{inside.not_file} is not a file", Advice(words=words))
    if inside.keys is None:
        return Cause("", f"{user} has no key file in the guest")
    bits, _, owner = inside.mode.partition(" ")
    if inside.mode and (owner not in (user, "root") or others_write(bits)):
        where = f"~{user}/.ssh/authorized_keys"
        means = f"its key file belongs to {owner} (mode {bits}): the server ignores a file that other users can write"
        return Cause("", means, Advice(f"chown {user}: {where}; chmod 600 {where}"))
    shared = [path for path, bits, whose in inside.folders if others_write(bits) or whose not in (user, "root")]
    if shared:
        means = f"{shared[0]} does not belong to {user} alone: the server ignores key files below it"
        which = " ".join(map(shlex.quote, shared))
        return Cause("", means, Advice(f"chown {user}: {which} && chmod go-w {which}"))
    if hidden := _unreadable(inside, user):
        means = f"{hidden} cannot be read by {user}, as whom the server reads it"
        return Cause("", means, Advice(f"chown {user}: {shlex.quote(hidden)}; chmod u+rX {shlex.quote(hidden)}"))
    if ours and not set(ours) & set(inside.tails):
        many = f"{inside.keys} key{'' if inside.keys == 1 else 's'}"
        return Cause("", f"its key file has {many}, but not this one")
    limits = [options for tail, options in inside.limits if tail in ours and not inside.log]
    if limits and any(word in limits[0] for word in ("from=", "expiry-time=")):
        means = f"its key file limits this key: {limits[0]}"
        return Cause("", means, Advice(words=f"change these options in ~{user}/.ssh/authorized_keys"), proved=False)
    return None


def _unreadable(inside: Inside, user: str) -> str:
    """The key file, or a folder above it, that its user may not read; "" if it may, or if that is not known."""
    above = next((path for path, _, _ in inside.folders if path.endswith("/.ssh")), "")
    bits, _, owner = inside.mode.partition(" ")
    places = [(path, mode, whose, 1) for path, mode, whose in inside.folders]
    for path, mode, whose, needed in [*places, (f"{above}/authorized_keys", bits, owner, 4)]:
        if user == "root" or not above or not mode.isdigit():
            continue
        own, group, others = list(mode.zfill(3)[-3:])
        # A group may read what others may not: whether the user is in it is not known.
        digits = own if whose == user else group + others
        if not any(int(digit) & needed for digit in digits):
            return path
    return ""


def _of_log(inside: Inside) -> Cause | None:
    """The last refusal in the server's log."""
    if inside.log:
        return Cause("", f"its server's log: {inside.log}", SERVER_LOG)
    return None
