"""Keys in a running guest: the changes to make, the script that makes them, and its answers."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from types import MappingProxyType

from dacha.core.named import NamedTuple
from dacha.core.people.sessions_inside import FUNCTIONS, end_sessions, name_strangers

NOTHING: Mapping[str, Sequence[str]] = MappingProxyType({})
# Lines that the script itself writes; they never occur in authorized_keys.
_KEYS_END, _SCRIPT_END = "THE-KEYS-END-HERE", "THE-SCRIPT-ENDS-HERE"
# Lines by which the script reports the result for each account, and its end.
_SAID, _END = "account", "end of keys"


class KeyChange(NamedTuple):
    """The changes in one account of a guest: lines of authorized_keys to add and to remove; `own` for an account that
    exists for people only, `shut` if no person uses it any more."""

    account: str
    put: tuple[str, ...] = ()
    take: tuple[str, ...] = ()
    own: bool = False
    shut: bool = False


class WantedKeys(NamedTuple):
    """The accounts that a guest should have, each with its lines; `own` are those for people only, `people` is true if
    the lab names people who may enter, besides the login user."""

    accounts: Mapping[str, Sequence[str]]
    own: frozenset[str] = frozenset()
    people: bool = False


def key_changes(
    keyed: Mapping[str, Sequence[str]] | None,
    own: Collection[str],
    wanted: WantedKeys,
    *,
    told: bool,
    unsure: Mapping[str, Sequence[str]] = NOTHING,
) -> list[KeyChange]:
    """The changes in a running guest that has the keys `keyed` (None: unknown) and the accounts `own` for people.
    `told` is false if its first-boot data has other pending changes: accounts are left to that. `unsure` are keys that
    may have been installed: a guest that was asked did not answer."""
    found = []
    sure: Mapping[str, Sequence[str]] = keyed or {}
    had = together(sure, unsure)
    if keyed is None and not wanted.people:
        return []  # A guest from before keys were recorded: no changes.
    for account, lines in wanted.accounts.items():
        mine = account in wanted.own
        if keyed is not None and account not in had and not mine:
            continue
        put = tuple(_once(_without(lines, sure.get(account, ()))))
        take = tuple(_without(had.get(account, ()), lines))
        if put or take or (mine and account not in sure):
            found.append(KeyChange(account, put, take, mine))
    for account, lines in had.items():
        if account in wanted.accounts or not (account in own or told):
            continue
        if lines or account in own:
            found.append(KeyChange(account, take=tuple(lines), own=account in own, shut=account in own))
    return found


def together(had: Mapping[str, Sequence[str]], more: Mapping[str, Sequence[str]]) -> dict[str, list[str]]:
    """The keys of both, by account, each once."""
    return {a: _once([*had.get(a, ()), *more.get(a, ())]) for a in dict.fromkeys([*had, *more])}


def key_of(line: str) -> tuple[str, ...]:
    """The identity of a public key: its type and data. The comment after them is arbitrary (sshd(8), AUTHORIZED_KEYS
    FILE FORMAT)."""
    return tuple(line.split()[:2])


def _without(lines: Iterable[str], others: Iterable[str]) -> list[str]:
    """The lines whose keys are not among the others."""
    keys = {key_of(k) for k in others}
    return [line for line in lines if key_of(line) not in keys]


def _once(lines: Iterable[str]) -> list[str]:
    """Each key once, as in its first line."""
    found: dict[tuple[str, ...], str] = {}
    for line in lines:
        found.setdefault(key_of(line), line)
    return list(found.values())


def after(keyed: Mapping[str, Sequence[str]] | None, changes: Iterable[KeyChange]) -> dict[str, list[str]]:
    """The keys in the guest after these changes."""
    now = {account: list(lines) for account, lines in (keyed or {}).items()}
    for change in changes:
        kept = _without(now.get(change.account, ()), change.take)
        now[change.account] = _once([*kept, *change.put])
        if change.shut or (not now[change.account] and change.take and not change.own):
            del now[change.account]
    return now


def named(line: str) -> str:
    """A readable name of a key: its comment, else its end."""
    words = line.split()
    return " ".join(words[2:]) or f"…{words[1][-8:]}"


# Run as the account's own user, so that links in its home folder cannot mislead root.
_EDIT = """\
umask 077
cd "$HOME" || exit 1
mkdir -p .ssh || exit 1
new=.ssh/authorized_keys.new
rm -f "$new"
touch .ssh/authorized_keys || exit 1
take='{take}' awk '
  BEGIN {{
    n = split(ENVIRON["take"], gone, "\\n"); for (i = 1; i <= n; i++) take[gone[i]] = 1
    while ((getline line < "/dev/stdin") > 0) want[++m] = line
  }}
  {{
    key = ""
    for (i = 1; i < NF; i++) if ($i ~ /^(ssh-|ecdsa-|sk-)/) {{ key = $i " " $(i + 1); break }}
    if (key in take) next
    have[key] = 1
    print
  }}
  END {{
    for (i = 1; i <= m; i++) {{ split(want[i], f, " "); if (!((f[1] " " f[2]) in have)) print want[i] }}
  }}
' .ssh/authorized_keys > "$new" << '{keys_end}' || exit 1
{put}{keys_end}
chmod 600 "$new" && chmod go-w .ssh && mv -f "$new" .ssh/authorized_keys || exit 1
if command -v restorecon > /dev/null; then restorecon -R .ssh; fi
exit 0
"""
_BEGIN = """\
PATH=$PATH:/usr/sbin:/sbin:/usr/local/sbin
root=; [ "$(id -u)" = 0 ] && root=1
there() { id "$1" > /dev/null 2>&1; }
make() {
  there "$1" && { unlock "$1"; return 0; }
  [ "$root" ] || { why="it has no such account, and making one takes root"; return 1; }
  shell=/bin/sh; [ -x /bin/bash ] && shell=/bin/bash
  { useradd -m -s "$shell" "$1" || adduser -D "$1" || pw useradd "$1" -m; } > /dev/null 2>&1
  there "$1" || { why="the account could not be made"; return 1; }
  echo "$1:*" | chpasswd -e 2> /dev/null
  return 0
}
unlock() {
  { usermod -e '' "$1"; usermod -U "$1" || passwd -u "$1" || pw unlock "$1"; } > /dev/null 2>&1
  # One that had no password is locked all the same where that was refused: it has none again.
  case $(getent shadow "$1" 2> /dev/null || grep "^$1:" /etc/shadow 2> /dev/null) in
    "$1:!:"* | "$1:!!:"* | "$1:!*:"* | "$1:*LOCKED*"*) echo "$1:*" | chpasswd -e 2> /dev/null ;;
  esac
}
shut() {
  there "$1" || return 0
  [ "$root" ] || { why="closing an account requires root"; return 1; }
  { usermod -L -e 1 "$1" || passwd -l "$1" || pw lock "$1"; } > /dev/null 2>&1
  { loginctl terminate-user "$1" || pkill -KILL -u "$1"; } > /dev/null 2>&1
  return 0
}
edit() {
  there "$1" || { why="it has no such account"; return 1; }
  if [ "$(id -un)" = "$1" ]; then HOME=$(eval echo "~$1") sh; elif [ "$root" ]; then su -s /bin/sh "$1" -c sh
  else why="its keys can be changed by itself and by root alone"; return 1; fi 2> /dev/null \\
    || { why="its file of keys could not be written"; return 1; }
}
"""


def script(changes: Iterable[KeyChange], known: Mapping[str, Sequence[str]] = NOTHING) -> str:
    """A POSIX shell script that makes these changes in a guest, as root or as the account's own user: it also ends the
    sessions of removed keys, and lists keys that are not among `known`, by account. Accounts are user names that
    useradd accepts, lines are checked public keys."""
    parts = [_BEGIN, FUNCTIONS]
    for change in changes:
        account, here = change.account, ""
        steps = [f"make {account}"] if change.own and not change.shut else []
        if change.put or change.take:
            take = "\n".join(" ".join(line.split()[:2]) for line in change.take)
            put = "".join(f"{line}\n" for line in change.put)
            here = _EDIT.format(take=take, put=put, keys_end=_KEYS_END) + f"{_SCRIPT_END}\n"
            steps.append(f"edit {account} << '{_SCRIPT_END}'")
        steps += [end_sessions(account, change.take)] if change.take and not change.shut else []
        if change.shut:
            # An account without a person is locked, whatever became of its keys.
            steps = [f"{{ {' && '.join([*steps, 'true'])}; edited=$?; shut {account} && [ $edited = 0 ]; }}"]
        else:
            steps.append(name_strangers(account, known.get(account, change.put)))
        said = f"echo '{_SAID} {account} done' || echo \"{_SAID} {account} $why\""
        parts.append(f"why=; {' && '.join([*steps, said])}\n{here}")
    return "".join([*parts, f"echo '{_END}'\n"])


def read_answers(text: str) -> dict[str, str] | None:
    """The script's result for each account: "" on success, else the reason; None if the script did not finish. Lines in
    any other format are ignored."""
    lines = text.splitlines()
    if _END not in lines:
        return None
    found: dict[str, str] = {}
    for line in lines:
        word, _, rest = line.partition(" ")
        account, _, said = rest.partition(" ")
        if word == _SAID and account:
            found[account] = found.get(account) or ("" if said == "done" else said or "it could not be done")
    return found
