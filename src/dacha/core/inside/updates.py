"""Updates of a guest's packages: the script that counts or installs them, by the guest's package manager, and its
answers."""

from __future__ import annotations

from dacha.core.inside.answers import answers_of
from dacha.core.named import NamedTuple

_SAID, _END = "update", "update end"
# How a package manager lists pending updates, how it marks those for security, and how it installs them. Each function
# prints one name a line; `list_it` marks security updates with a leading "!".
_SCRIPT = """\
export LC_ALL=C DEBIAN_FRONTEND=noninteractive PATH="$PATH:/usr/sbin:/sbin"
say() {{ printf '%s %s\\n' {said} "$*"; }}
finish() {{ rm -f "$errors"; echo {end}; exit 0; }}
errors=$(mktemp 2> /dev/null || mktemp -p "${{HOME:-/root}}") || exit 1
root=
if [ "$(id -u)" != 0 ]; then root="sudo -n"; $root true 2> /dev/null || {{ say denied; finish; }}; fi
run() {{ $root "$@" > /dev/null 2> "$errors"; }}
failed() {{ say failed "$1: $(grep -m 1 'Failed to fetch' "$errors" || grep -v '^$' "$errors" | tail -n 1)"; finish; }}
if command -v apt-get > /dev/null; then
  manager=apt
  # By itself it succeeds without a network, with old lists; an older version does not know the option.
  refresh() {{
    run apt-get -qq -o APT::Update::Error-Mode=any update && ! grep -q '^W: .*Failed to fetch' "$errors"
  }}
  list_it() {{
    $root apt-get -s -qq upgrade 2> /dev/null | while read -r word name rest; do
      [ "$word" = Inst ] || continue
      case $rest in *[Ss]ecurity*) echo "!$name" ;; *) echo "$name" ;; esac
    done
  }}
  keep="-o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold"
  install() {{ run apt-get -qq -y $keep upgrade; }}
elif command -v dnf > /dev/null; then
  manager=dnf
  refresh() {{ run dnf -q makecache; }}
  list_it() {{
    urgent=$($root dnf -q updateinfo list --security 2> /dev/null | awk '{{ print $NF }}')
    $root dnf -q check-update 2> /dev/null | awk 'NF == 3 {{ print $1 }}' | while read -r name; do
      case $urgent in *"${{name%.*}}"-*) echo "!$name" ;; *) echo "$name" ;; esac
    done
  }}
  install() {{ run dnf -q -y upgrade; }}
elif command -v apk > /dev/null; then
  manager=apk
  refresh() {{ run apk -q update; }}
  list_it() {{ $root apk version -q -l '<' 2> /dev/null | sed -n 's/^\\([^ ]*\\)-[0-9][^ ]*.*/\\1/p'; }}
  install() {{ run apk -q upgrade; }}
elif command -v pkg > /dev/null; then
  manager=pkg
  refresh() {{ run pkg update -q; }}
  list_it() {{ $root pkg version -q -l '<' -n 2> /dev/null | sed 's/-[^-]*$//'; }}
  install() {{ run pkg upgrade -q -y; }}
else say manager none; finish; fi
say manager $manager
refresh || failed "its package lists cannot be updated"
list_it | while read -r name; do say pending "$name"; done
if [ {install} = yes ]; then
  install || failed "the update did not complete"
  list_it | while read -r name; do say left "$name"; done
fi
newest=$(ls -t /boot/vmlinuz-* 2> /dev/null | head -n 1)
for f in /run/reboot-required /var/run/reboot-required; do [ -e "$f" ] && say restart system && break; done
[ -z "$newest" ] || [ "$newest" = "/boot/vmlinuz-$(uname -r)" ] || say restart kernel
finish
"""


class Updates(NamedTuple):
    """What a guest answered: its package manager ("" if it has none that is known); names of pending packages, and of
    those for security; with an installation the names that are left; why it failed; what a restart is needed for."""

    manager: str = ""
    pending: tuple[str, ...] = ()
    security: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    failed: str = ""
    denied: bool = False
    restart: tuple[str, ...] = ()


def script(*, install: bool) -> str:
    """The script for a POSIX shell; without `install` it only refreshes the package lists."""
    return _SCRIPT.format(said=_SAID, end=_END, install="yes" if install else "no")


def read_answers(text: str) -> Updates | None:
    """The answers of the script; None if it did not run to its end."""
    all_of = answers_of(text, _SAID, _END)
    if all_of is None:
        return None

    pending, manager = all_of("pending"), next(iter(all_of("manager")), "")
    return Updates(
        manager="" if manager == "none" else manager,
        pending=tuple(name.lstrip("!") for name in pending),
        security=tuple(name[1:] for name in pending if name.startswith("!")),
        left=tuple(name.lstrip("!") for name in all_of("left")),
        failed=next(iter(all_of("failed")), ""),
        denied=bool(all_of("denied")),
        restart=tuple(all_of("restart")),
    )
