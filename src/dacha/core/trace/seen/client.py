"""What the debug output of OpenSSH's client (ssh -v) shows of a login: its progress, and its final message. The
messages are those of versions 8 to 10."""

from __future__ import annotations

import re
from collections.abc import Iterable

from dacha.core.trace.seen.results import IN, NO_ANSWER, PUT_OUT, LoginSeen
from dacha.core.trace.seen.results import REFUSED_LOGIN as REFUSED

# Final messages of a server, a client or a shell, and what each proves.
_WORDS = (
    ("contents do not match public", "other private key"),
    ("signing failed", "cannot sign"),
    ("error in libcrypto", "cannot sign"),
    ("too many authentication failures", "too many keys"),
    ("account is currently not available", "nologin"),
    ("account has expired", "expired"),
    ("password has expired", "password expired"),
    ("password change required", "password expired"),
    ("not permitted to log in", "closed"),
    ("system is going down", "closed"),
    ("system is booting up", "booting"),
    ("exceeded maxstartups", "too many clients"),
    ("too many logins for", "too many logins"),
    ("channel 0: open failed", "no sessions"),
    ("unable to negotiate with", "nothing in common"),
    ("permission denied", "refused"),
)
# What the client says of itself on the way, and what that proves.
_ON_THE_WAY = (
    ("with partial success", "more methods"),
    ("no mutual signature algorithm", "key type"),
    ("corresponding algo not in", "key type"),
)
# The command of a login prints this first, perhaps behind what the shell's startup files print; a server that runs
# another command does not.
IN_WORD = "dacha-login-command-ran"
# The server's host key of any type; the authentication methods that it still offers.
_HOST_KEY = re.compile(r"debug1: Server host key: \S+ (SHA256:\S+)")
_METHODS = re.compile(r"debug1: Authentications that can continue: (\S+)")
# A server that offers no authentication method at all: "Permission denied ()".
NO_METHOD = "none"
# Lines that the client prints about itself.
_OWN = re.compile(r"(debug\d: |OpenSSH_|Authenticated to |Transferred: |Bytes per second: |Warning: Permanently added)")
# What the client says of the end of a session.
_ITS_END = re.compile(r"(Connection |Received disconnect|client_loop|channel \d|\w+ request failed|Disconnected)")
# ssh(1): its own exit code, as opposed to the command's.
FAILED = 255


def _last(words: list[str], *, entered: bool) -> str:
    """The last message. After a successful login it is the client's own, if there is one: the guest also prints its
    message of the day."""
    own = [line for line in words if _ITS_END.match(line)] if entered else []
    return (own or words or [""])[-1]


def read_client(user: str, keys: Iterable[str], code: int, said: str, *, word: bool = False) -> LoginSeen:
    """The result of a login, from the client's exit code and output; with `word` its command prints IN_WORD."""
    lines = [line.strip() for line in said.splitlines()]
    words = [line for line in lines if line and not _OWN.match(line)]
    low = "\n".join(words).lower()
    told = [*((t, n) for t, n in _ON_THE_WAY if t in said.lower()), *((t, n) for t, n in _WORDS if t in low)]
    cause = told[0][1] if told else ""
    key = next((m[1] for line in lines if (m := _HOST_KEY.match(line))), "")
    methods = next((m[1].split(",") for line in reversed(lines) if (m := _METHODS.match(line))), [])
    if "permission denied ()" in low:
        methods = [NO_METHOD]
    entered = any(line.startswith("Authenticated to ") for line in lines)
    seen = LoginSeen(
        user,
        tuple(keys),
        said=_last(words, entered=entered)[:120],
        cause=cause,
        host_key=key,
        methods=tuple(methods),
        accepted=entered or any(line.startswith("debug1: Server accepts key: ") for line in lines),
        entered=entered,
    )
    if code == 0 and word and not any(line.endswith(IN_WORD) for line in lines):
        return seen._replace(result=PUT_OUT, cause="other command", entered=True, accepted=True)
    if code == 0:
        return seen._replace(result=IN, said="")
    if entered or code != FAILED:
        # The login succeeded, but the session ended at once.
        return seen._replace(result=PUT_OUT, entered=True, accepted=True, code=code if code != FAILED else None)
    judged = cause or seen.methods or "closed by" in low or "reset by" in low
    if "verification failed" in low or not judged:
        return seen._replace(result=NO_ANSWER)
    return seen._replace(result=REFUSED)
