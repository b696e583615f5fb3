"""Give an adapter of a running guest another static address, with a way back: the scripts that do, and their answers.

The new address is added beside the old one, and written wherever the guest's network configuration names the old one.
A process in the guest takes both back unless it is confirmed in time: when this host has reached the guest there, a
second script removes the old address.
"""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address, IPv6Address

from dacha.core.harmless import harmless
from dacha.core.inside.answers import answers_of
from dacha.core.named import NamedTuple

# A guest may answer anything: this much of a reason is shown.
_WHY_MOST = 200
Address = IPv4Address | IPv6Address
_SAID, _END = "address", "address end"
# Where systems keep the configuration of their adapters.
_PLACES = (
    "/etc/netplan/*.yaml", "/etc/network/interfaces", "/etc/network/interfaces.d/*", "/etc/systemd/network/*.network",
    "/etc/systemd/network/*.network.d/*.conf", "/etc/NetworkManager/system-connections/*",
    "/etc/sysconfig/network-scripts/ifcfg-*", "/etc/sysconfig/network/ifcfg-*", "/etc/dhcpcd.conf", "/etc/conf.d/net",
)  # fmt: skip
# T is the folder of this change, E an addition to its paths in tests; LINK is found by hardware address and address.
_COMMON = r"""PATH="$PATH:/usr/local/sbin:/usr/sbin:/sbin"
export PATH LC_ALL=C
say() { echo "@SAID@ $*"; }
finish() { echo '@END@'; exit 0; }
[ "$(id -u)" = 0 ] || { say denied; finish; }
T=/run/address-@ID@
[ -d /run ] || T=/var/run/address-@ID@
# link_of HARDWARE ADDRESS FAMILY: the link with both, in LINK.
link_of() {
  LINK=
  for place in /sys/class/net/*; do
    [ "$(cat "$place/address" 2> /dev/null)" = "$1" ] || continue
    if ip "-$3" -o address show dev "${place##*/}" | grep -qF " $2/"; then LINK=${place##*/}; return; fi
  done
  false
}
# completed: wait until an earlier change is.
completed() {
  for second in 1 2 3 4 5 6 7 8 9; do
    ls -d "${T%/*}"/address-*.* > /dev/null 2>&1 || return
    sleep 1
  done
}
# back: everything as it was before.
back() {
  while read -r number file; do cp -p "$T/$number" "$file"; done < "$T/files"
  while read -r link address; do ip address del "$address" dev "$link" 2> /dev/null; done < "$T/added"
  reread
}
# reread: what is generated from the configuration, or holds a copy of it, without touching the links.
reread() {
  command -v netplan > /dev/null && netplan generate > /dev/null 2>&1
  command -v nmcli > /dev/null && nmcli connection reload > /dev/null 2>&1
  true
}
"""
_BEGIN = r"""completed
mkdir -m 700 "$T" 2> /dev/null || { say failed "$T cannot be created"; finish; }
: > "$T/files"; : > "$T/added"; : > "$T/moves"
# move HARDWARE OLD NEW PREFIX FAMILY
move() {
  link_of "$1" "$2" "$5" || { why="no adapter with hardware address $1 has the address $2"; return 1; }
  if ip "-$5" -o address show dev "$LINK" | grep -F " $2/" | grep -qw dynamic; then
    why="it has $2 by DHCP"; return 1
  fi
  old=$(echo "$2" | sed 's/\./\\./g') written=
  case $5 in 4) other='[^0-9.]' more='brd +' ;; *) other='[^0-9a-fA-F:.]' more= ;; esac
  for file in @PLACES@; do
    [ -f "$file" ] && [ ! -L "$file" ] && grep -qF "$2" "$file" || continue
    number=$(wc -l < "$T/files" | tr -d ' ')
    cp -p "$file" "$T/$number" && echo "$number $file" >> "$T/files" || { why="$file cannot be copied"; return 1; }
    # Twice: two addresses may share the character between them.
    sed -e "s/\(^\|$other\)$old\($\|$other\)/\1$3\2/g" -e "s/\(^\|$other\)$old\($\|$other\)/\1$3\2/g" \
      "$T/$number" > "$T/new" && cat "$T/new" > "$file" || { why="$file cannot be written"; return 1; }
    if ! cmp -s "$T/$number" "$file"; then written=1; say written "$file"; fi
  done
  [ "$written" ] || say unwritten "$2"
  # shellcheck disable=SC2086
  why=$(ip address add "$3/$4" dev "$LINK" $more 2>&1) || return 1
  echo "$LINK $3/$4" >> "$T/added"
  echo "$LINK $2/$4" >> "$T/moves"
}
@MOVES@
if [ "$why" ]; then back; rm -rf "$T"; say failed "$why"; finish; fi
reread
waiting() {
  trap '' HUP
  sleep @SECONDS@
  [ -d "$T" ] || exit 0
  # The folder is renamed, so that it is either confirmed or taken back.
  mv "$T" "$T.back" 2> /dev/null || exit 0
  T=$T.back
  back
  rm -rf "$T"
}
(waiting) < /dev/null > /dev/null 2>&1 &
say begun
finish
"""
# Addresses are removed after the answer: it may be on its way from one of them.
_CONFIRM = r"""if ! mv "$T" "$T.kept" 2> /dev/null; then
  # It was confirmed before, or taken back: its addresses tell.
  completed
  if @HAS@; then say confirmed; else say gone; fi
  finish
fi
T=$T.kept
keep() {
  sleep 1
  while read -r link address; do
    echo 1 > "/proc/sys/net/ipv4/conf/$link/promote_secondaries" 2> /dev/null
    # Routes that begin at the old address go with it; they are needed without it.
    ip -4 route show dev "$link" | grep -v 'proto kernel' > "$T/routes"
    ip address del "$address" dev "$link" 2> /dev/null
    while read -r route; do
      route=$(echo "$route" | sed -e "s#src ${address%/*}\( \|$\)##" -e 's/ linkdown//' -e 's/ dead//')
      # shellcheck disable=SC2086
      ip -4 route replace $route dev "$link" 2> /dev/null
    done < "$T/routes"
  done < "$T/moves"
  rm -rf "$T"
}
(trap '' HUP; keep) < /dev/null > /dev/null 2>&1 &
say confirmed
finish
"""
# Without such a change its folder is created: a script that is only just beginning it finds that out.
_BACK = r"""mv "$T" "$T.back" 2> /dev/null || { mkdir -m 700 "$T"; say gone; finish; }
T=$T.back
(trap '' HUP; sleep 1; back; rm -rf "$T") < /dev/null > /dev/null 2>&1 &
say back
finish
"""


class Move(NamedTuple):
    """Another address of the adapter with this hardware address, in the same subnet."""

    hardware_address: str
    before: Address
    after: Address
    prefix: int

    def reversed(self) -> Move:
        """The change back."""
        return self._replace(before=self.after, after=self.before)


class Answers(NamedTuple):
    """What a script answered: `state` is "begun", "confirmed", "back", "gone" (it was taken back before), "denied"
    (no root), "failed" for the reason in `why`; the files that now name the new address; and the old addresses that no
    configuration named."""

    state: str
    why: str = ""
    written: tuple[str, ...] = ()
    unwritten: tuple[str, ...] = ()


def begin(identifier: str, moves: Sequence[Move], seconds: int) -> str:
    """The script that gives a guest the new addresses, and takes them back after so many seconds unless it is
    confirmed. The identifier consists of letters and digits."""
    lines = "why=\n" + " &&\n".join(
        f"move {m.hardware_address} {m.before} {m.after} {m.prefix} {m.after.version}" for m in moves
    )
    return _made(_COMMON + _BEGIN, {"@ID@": identifier, "@MOVES@": lines, "@SECONDS@": str(seconds),
                                    "@PLACES@": " ".join(_PLACES)})  # fmt: skip


def confirm(identifier: str, moves: Sequence[Move]) -> str:
    """The script that removes the old addresses."""
    has = " && ".join(f"link_of {m.hardware_address} {m.after} {m.after.version}" for m in moves)
    return _made(_COMMON + _CONFIRM, {"@ID@": identifier, "@HAS@": has})


def back(identifier: str) -> str:
    """The script that takes the new addresses back at once."""
    return _made(_COMMON + _BACK, {"@ID@": identifier})


def _made(text: str, parts: dict[str, str]) -> str:
    for mark, value in {**parts, "@SAID@": _SAID, "@END@": _END}.items():
        text = text.replace(mark, value)
    # One function, so that a script that was cut off does nothing.
    return f"main() {{\n{text}}}\nmain\n"


def read_answers(out: str) -> Answers | None:
    """The answers from a script's output; None if it did not run to its end."""
    all_of = answers_of(out, _SAID, _END)
    if all_of is None:
        return None
    for state in ("begun", "confirmed", "back", "gone", "denied"):
        if all_of(state):
            return Answers(state, "", tuple(all_of("written")), tuple(all_of("unwritten")))
    return Answers("failed", harmless(next(iter(all_of("failed")), ""))[:_WHY_MOST] or "its answer is not complete")
