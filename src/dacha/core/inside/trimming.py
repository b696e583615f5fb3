"""Let a guest's file systems tell its disks what they no longer use: the script that does, and its answers."""

from __future__ import annotations

from dacha.core.inside.answers import answers_of
from dacha.core.named import NamedTuple

_SAID, _END = "trim", "trim end"
# Each mounted file system once, by its device; a file system that cannot trim is left out.
SCRIPT = f"""\
PATH="$PATH:/usr/sbin:/sbin"
finish() {{ echo '{_END}'; exit 0; }}
if [ "$(id -u)" != 0 ]; then echo {_SAID} denied; finish; fi
command -v fstrim > /dev/null || {{ echo {_SAID} missing; finish; }}
known=' '
while read -r device place kind rest; do
  case $device in /dev/*) ;; *) continue ;; esac
  case $kind in iso9660 | udf | squashfs) continue ;; esac
  case $known in *" $device "*) continue ;; esac
  known="$known$device "
  fstrim "$place" 2> /dev/null && echo {_SAID} done "$place"
done < /proc/mounts
finish
"""


class Trimmed(NamedTuple):
    """The answers: the mount points that were trimmed; or why none could be."""

    places: tuple[str, ...] = ()
    why: str = ""


def read_answers(out: str) -> Trimmed | None:
    """The script's answers from its output; None if it did not reach its end."""
    all_of = answers_of(out, _SAID, _END)
    if all_of is None:
        return None
    if all_of("denied"):
        return Trimmed(why="the login user does not become root without a password")
    if all_of("missing"):
        return Trimmed(why="the program fstrim is not installed in the guest")
    places = tuple(all_of("done"))
    return Trimmed(places, "" if places else "none of its file systems supports it")
