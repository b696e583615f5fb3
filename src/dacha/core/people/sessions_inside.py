"""End the sessions of removed keys in a guest, and list keys that Dacha did not install.

The scripts are for a POSIX shell on Linux, as root or as the account's own user. A guest may answer anything: answers
are shown, and decide nothing.
"""

from __future__ import annotations

# (The standard `base64` is based on this one, and takes a quick command a millisecond to import.)
import binascii
from collections.abc import Iterable

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple
from dacha.core.sha256 import sha256

_ENDED, _STRANGE = "ended", "strange"
# The part of an answer that is read: a guest may send anything.
LINES, LONGEST = 200, 300
# The number of final characters that identify a key.
TAIL = 24

# `ends ACCOUNT FINGERPRINTS`: ends each SSH session of the account that one of these keys opened, or whose key is
# unknown; never the session that this script runs in.
FUNCTIONS = """\
mine=" "; p=$$
while [ "${p:-0}" -gt 1 ]; do mine="$mine$p "; p=$(awk '/^PPid:/ {print $2}' "/proc/$p/status" 2> /dev/null); done
opened() {
  { journalctl -q -o cat --no-pager "_PID=$1"; grep -hF "[$1]" /var/log/auth.log /var/log/secure /var/log/messages; } \\
    2> /dev/null | awk '
      /[Pp]assword auth succeeded|Accepted (password|keyboard)/ { by = "password" }
      /Accepted publickey|Pubkey auth succeeded/ { for (i = 1; i <= NF; i++) if ($i ~ /^SHA256:/) by = $i }
      END { sub(/[=\\r]*$/, "", by); print by }'
}
children() {
  cat "/proc/$1/task/$1/children" 2> /dev/null ||
    awk -v p="$1" '/^Pid:/ { n = $2 } /^PPid:/ && $2 == p { print n }' /proc/[0-9]*/status 2> /dev/null
}
kill_tree() {
  for c in $(children "$1"); do (kill_tree "$c"); done
  kill "$1" 2> /dev/null
}
belongs() {
  case $(tr '\\0' ' ' < "/proc/$1/cmdline" 2> /dev/null) in
    "sshd: $2 [priv]"*|"sshd-session: $2 [priv]"*) [ "$root" ]; return ;;
    "sshd: $2@"*|"sshd-session: $2@"*) [ ! "$root" ] || [ "$2" = root ]; return ;;
    *dropbear*) for c in $(children "$1"); do
        read -r n < "/proc/$c/comm" && [ "$n" != dropbear ] && [ "$(stat -c %U "/proc/$c")" = "$2" ] && return 0
      done ;;
  esac
  return 1
}
ends() {
  count=0
  for d in /proc/[0-9]*; do
    read -r comm 2> /dev/null < "$d/comm" || continue
    case $comm in sshd*|dropbear) ;; *) continue ;; esac
    pid=${d#/proc/}
    case $mine in *" $pid "*) continue ;; esac
    belongs "$pid" "$1" || continue
    by=$(opened "$pid")
    case " $2 " in *" ${by:-$2} "*) ;; *) [ "$by" ] && continue ;; esac
    # Who may not end the server's process ends what it started.
    first=$(children "$pid" | tr '\\n' ' ')
    if (kill_tree "$pid") || kill -KILL $first 2> /dev/null || [ ! -d "/proc/${first%% *}" ]; then
      count=$((count + 1))
    fi
  done
  echo "ended $1 $count"
  return 0
}
strangers() {
  h=$(eval echo "~$1")
  for f in "$h/.ssh/authorized_keys" "$h/.ssh/authorized_keys2"; do
    [ -f "$f" ] && known="$2" awk -v file="$f" -v account="$1" '
      BEGIN { n = split(ENVIRON["known"], k, " "); for (i = 1; i <= n; i++) have[k[i]] = 1 }
      /^[ \\t]*#/ { next }
      { for (i = 1; i <= NF; i++) if ($i ~ /^AAAA/) {
          if (!(substr($i, length($i) - TAIL + 1) in have)) print "strange", account, file, $i, $(i + 1)
          break
      } }' "$f" 2> /dev/null
  done
  return 0
}
""".replace("TAIL", str(TAIL))


class Stranger(NamedTuple):
    """A key that opens an account of a guest and was not installed by Dacha."""

    account: str
    file: str
    fingerprint: str
    tail: str
    comment: str = ""

    def __str__(self) -> str:
        return f"{self.fingerprint} ({self.comment})" if self.comment else self.fingerprint

    def remedy(self) -> str:
        """The command that removes it, for an administrator's shell in the guest."""
        return f"sed -i '\\|{self.tail}|d' {self.file}"


def fingerprint(blob: str) -> str:
    """The fingerprint of a key's blob, as OpenSSH and its log show it; empty for invalid base64."""
    try:
        data = binascii.a2b_base64(blob, strict_mode=True)
    except ValueError:
        return ""
    return "SHA256:" + binascii.b2a_base64(sha256(data).digest(), newline=False).decode().rstrip("=")


def tails(lines: Iterable[str]) -> str:
    """The final characters of these keys, as `strangers` compares them."""
    return " ".join(dict.fromkeys(line.split()[1][-TAIL:] for line in lines))


def end_sessions(account: str, taken: Iterable[str]) -> str:
    """The step that ends the sessions of removed keys (lines of authorized_keys)."""
    marks = " ".join(dict.fromkeys(mark for line in taken if (mark := fingerprint(line.split()[1]))))
    return f"ends {account} '{marks}'"


def name_strangers(account: str, known: Iterable[str]) -> str:
    """The step that lists keys which are not among `known` (lines of authorized_keys)."""
    return f"strangers {account} '{tails(known)}'"


def read_ended(text: str) -> dict[str, int]:
    """The number of ended sessions, by account."""
    found: dict[str, int] = {}
    for words in _words(text, _ENDED):
        if len(words) == 3 and words[2].isdigit():
            found[words[1]] = found.get(words[1], 0) + min(int(words[2]), 9999)
    return {account: count for account, count in found.items() if count}


def read_strangers(text: str) -> list[Stranger]:
    """The keys that were listed."""
    found = []
    for words in _words(text, _STRANGE):
        if len(words) < 4 or not words[2].startswith("/") or not (mark := fingerprint(words[3])):
            continue
        comment = harmless(words[4])[:60] if len(words) > 4 else ""
        found.append(Stranger(harmless(words[1]), harmless(words[2]), mark, words[3][-TAIL:], comment))
    return found


def strangers_among(text: str, known: Iterable[str] | None) -> list[Stranger]:
    """The keys in the text of an authorized_keys file that are not among `known` (its lines; None: list nothing)."""
    if known is None:
        return []
    have = {line.split()[1] for line in known}
    found = []
    for words in (line[: 20 * LONGEST].split() for line in text.splitlines()[:LINES]):
        at = next((n for n, word in enumerate(words) if word.startswith("AAAA")), None)
        if at is not None and words[0][0] != "#" and words[at] not in have and (mark := fingerprint(words[at])):
            found.append(Stranger("", "", mark, words[at][-TAIL:], harmless(" ".join(words[at + 1 :]))[:60]))
    return found


def _words(text: str, first: str) -> Iterable[list[str]]:
    rows = (line[: 20 * LONGEST].split() for line in text.splitlines()[: 10 * LINES])
    return [row for row in rows if row[:1] == [first]][:LINES]
