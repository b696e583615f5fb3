"""Taking over a machine that exists: the script that a login runs in it, and its answers."""

from __future__ import annotations

import shlex
from collections.abc import Sequence

from dacha.core.inside.answers import answers_of
from dacha.core.named import NamedTuple

_SAID, _END = "adopt", "adopt end"
# It adds keys to the account's own key file, and reads the rest: nothing else in the machine is changed.
_SCRIPT = """\
umask 077
say() {{ printf '%s %s\\n' {said} "$*"; }}
f=$HOME/.ssh/authorized_keys
if [ ! -d "$HOME/.ssh" ]; then mkdir -p "$HOME/.ssh" && say made "$HOME/.ssh"; fi
for key in {keys}; do
  if grep -qxF -e "$key" "$f" 2> /dev/null; then say key there; else
    [ ! -s "$f" ] || [ -z "$(tail -c 1 "$f")" ] || echo >> "$f"
    if printf '%s\\n' "$key" >> "$f"; then say key added; else say key refused; fi
  fi
done
[ -r /etc/os-release ] && (. /etc/os-release; say system "$ID" "$PRETTY_NAME")
say host "$(hostname 2> /dev/null || cat /proc/sys/kernel/hostname)"
say user "$(id -un)"
if [ "$(id -u)" = 0 ] || sudo -n true 2> /dev/null; then say root yes; else say root no; fi
for n in /sys/class/net/*; do
  [ -e "$n/device" ] || continue
  for a in $(ip -o addr show dev "${{n##*/}}" scope global 2> /dev/null | awk '{{ print $4 }}'); do
    say address "$(cat "$n/address")" "$a"
  done
done
for p in /dev/virtio-ports/org.qemu.guest_agent.0; do [ -e "$p" ] && say agent-port yes; done
for a in qemu-ga qemu-guest-agent; do
  if command -v $a > /dev/null 2>&1 || [ -x /usr/sbin/$a ]; then say agent installed; fi
done
grep -qs '^[^#]*inet static' /etc/network/interfaces /etc/network/interfaces.d/* && say static /etc/network/interfaces
for f in /etc/netplan/*.yaml /etc/systemd/network/*.network /etc/NetworkManager/system-connections/*; do
  grep -qs -i -e '^ *addresses:' -e '^Address=' -e '^address1=' "$f" && say static "$f"
done
echo {end}
"""


class Adopted(NamedTuple):
    """What a machine reported: keys that were added, and those that it had; its system (family and name), its user,
    whether that user becomes root without a password; its addresses by hardware address; files that configure a static
    address; whether the guest agent is installed; folders that were created."""

    added: int = 0
    had: int = 0
    family: str = ""
    system: str = ""
    host: str = ""
    user: str = ""
    administrator: bool = False
    addresses: tuple[tuple[str, str], ...] = ()
    static: tuple[str, ...] = ()
    agent: bool = False
    made: tuple[str, ...] = ()
    refused: int = 0


def script(keys: Sequence[str]) -> str:
    """The script for a POSIX shell: it adds these lines to the account's authorized_keys, unless they are there."""
    return _SCRIPT.format(said=_SAID, end=_END, keys=" ".join(shlex.quote(key) for key in keys))


def read_answers(text: str) -> Adopted | None:
    """The answers of the script; None if it did not run to its end."""
    all_of = answers_of(text, _SAID, _END)
    if all_of is None:
        return None

    def one(name: str) -> str:
        return next(iter(all_of(name)), "")

    keys, (family, _, system) = all_of("key"), one("system").partition(" ")
    places = [word.split() for word in all_of("address")]
    return Adopted(
        added=keys.count("added"),
        had=keys.count("there"),
        refused=keys.count("refused"),
        family=family,
        system=system or family,
        host=one("host"),
        user=one("user"),
        administrator=one("root") == "yes",
        addresses=tuple((p[0], p[1]) for p in places if len(p) == 2),
        static=tuple(all_of("static")),
        agent="installed" in all_of("agent"),
        made=tuple(all_of("made")),
    )
