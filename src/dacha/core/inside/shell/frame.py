"""The frame of the setup script: what it says, its ledger, and files.

What was there before is kept in a ledger in the guest, a folder for each thing, written before the change: a script
that was killed is continued by the next one, and a thing that leaves the lab file leaves the guest as it was.
"""

LEDGER = "/var/lib/dacha-setup"
SAID, END = "setup", "setup end"
# The line that ends contents in the script; base64 (RFC 4648 section 4) never contains a hyphen.
CONTENT_END = "THE-CONTENT-ENDS-HERE"

_FRAME = r"""PATH=$PATH:/usr/local/sbin:/usr/sbin:/sbin
export PATH LC_ALL=C DEBIAN_FRONTEND=noninteractive
umask 022
# A client that goes away does not end it halfway.
trap '' HUP PIPE
L=@LEDGER@

say() { echo "@SAID@ $*"; }
# finish: a ledger without a thing in it goes too.
finish() {
  if [ -n "${T:-}" ]; then
    rm -rf "$T"
    left=
    for thing in "$L"/*; do
      case ${thing##*/} in lock | groups | pool) if [ -s "$thing" ]; then left=yes; fi ;; *) left=yes ;; esac
    done
    if [ -z "$left" ]; then
      rm -rf "$L"
    fi
  fi
  echo "@END@"
  exit 0
}
run() { "$@" > "$T/out" 2>&1 < /dev/null 9>&-; }
# why: the last line that a failed command printed; dpkg's and apt's own errors before others.
failed() {
  why=$(sed -n '/^dpkg: error processing/{n;s/^ *//;p;}' "$T/out" | tail -n 1)
  [ -n "$why" ] || why=$(grep '^E:' "$T/out" | tail -n 1)
  [ -n "$why" ] || why=$(grep -v '^[[:space:]]*$' "$T/out" | tail -n 1)
  [ -n "$why" ] || why='it failed without a message'
  return 1
}
there() { [ -e "$1" ] || [ -L "$1" ]; }
content() { if command -v base64 > /dev/null; then base64 -d; else b64decode -r; fi > "$T/content"; }

start() {
  [ "$(id -u)" = 0 ] || { say denied; finish; }
  if ! mkdir -p "$L" || ! chmod 700 "$L"; then say unwritable; finish; fi
  exec 9> "$L/lock"
  if command -v flock > /dev/null && ! flock -w 20 9; then say busy; finish; fi
  T=$L/now
  rm -rf "$T" "$L"/*.gone
  if ! mkdir -p "$T"; then say unwritable; finish; fi
  P=
  for tool in apt-get dnf apk pkg; do
    if command -v $tool > /dev/null; then P=$tool; break; fi
  done
  repair
}

# put KIND NUMBER ID VALUE...: bring one thing in; its contents, if it has any, are in $T/content.
put() {
  kind=$1 number=$2 I=$L/$3 why=
  shift 3
  if mkdir -p "$I" && printf '%s\n' "$1" > "$I/value" && "put_$kind" "$@"; then
    : > "$I/done"
    say "$number done"
  else
    say "$number failed ${why:-it could not be done}"
  fi
}
# take KIND NUMBER ID: take back what was put, as far as nobody changed it since.
take() {
  kind=$1 number=$2 I=$L/$3 why='' left=
  if [ ! -f "$I/value" ]; then say "$number kept it was there before, or its first boot put it there"; return; fi
  if "take_$kind" "$(cat "$I/value")"; then
    mv "$I" "$I.gone" && rm -rf "$I.gone"
    if [ -n "$left" ]; then say "$number kept $left"; else say "$number done"; fi
  else
    say "$number failed ${why:-it could not be done}"
  fi
}

# Files. keep N PATH notes what is there before it is first changed; N names one of several paths of a thing.
keep() {
  [ -e "$I/$1.path" ] && return 0
  if [ -d "$2" ]; then why="$2 is a folder"; return 1; fi
  rm -f "$I/$1.was"
  if there "$2"; then cp -Pp "$2" "$I/$1.was" || return 1; fi
  printf '%s\n' "$2" > "$I/$1.path.new" && mv "$I/$1.path.new" "$I/$1.path"
}
same() {
  if [ -L "$1" ] || [ -L "$2" ]; then
    [ -L "$1" ] && [ -L "$2" ] && [ "$(readlink "$1")" = "$(readlink "$2")" ]
  elif [ -e "$1" ] && [ -e "$2" ]; then [ "$(cksum < "$1")" = "$(cksum < "$2")" ]
  else [ ! -e "$1" ] && [ ! -e "$2" ]; fi
}
is_as() { there "$2" && same "$1" "$2"; }
changed_inside() {
  there "$I/$1.is" || there "$I/$1.next" || return 1
  ! is_as "$2" "$I/$1.is" && ! is_as "$2" "$I/$1.next" && ! same "$2" "$I/$1.was"
}
parents() {
  [ -z "${1%/*}" ] || [ -d "${1%/*}" ] || { parents "${1%/*}" && echo "${1%/*}" >> "$I/parents" && mkdir "${1%/*}"; }
}
relabel() { if command -v restorecon > /dev/null; then restorecon "$1"; fi > /dev/null 2>&1; }
# ready N PATH: what precedes a change of a path.
ready() {
  keep "$1" "$2" || return 1
  if is_as "$2" "$I/$1.next"; then mv -f "$I/$1.next" "$I/$1.is"; fi
  if changed_inside "$1" "$2"; then why="$2 was changed in the guest since: it stays as it is"; return 1; fi
  rm -f "$2.dacha-new"
  parents "$2" || { why="its folder could not be created"; return 1; }
}
placed() {
  cp -Pp "$2.dacha-new" "$I/$1.next" && mv -f "$2.dacha-new" "$2" && mv -f "$I/$1.next" "$I/$1.is" && relabel "$2"
  return 0
}
# place N PATH MODE OWNER: the contents go there.
place() {
  ready "$1" "$2" || return 1
  id "$4" > /dev/null 2>&1 || { why="no account $4 exists"; return 1; }
  cp "$T/content" "$2.dacha-new" && chmod "$3" "$2.dacha-new" &&
    { chown "$4:" "$2.dacha-new" || chown "$4" "$2.dacha-new"; } 2> /dev/null ||
    { rm -f "$2.dacha-new"; why="$2 could not be written"; return 1; }
  placed "$1" "$2"
}
link() {
  ready "$1" "$2" && ln -s "$3" "$2.dacha-new" && placed "$1" "$2"
}
hide() {
  there "$2" || return 0
  keep "$1" "$2" && : > "$I/$1.hidden" && rm -f "$2"
}
restore() {
  [ -e "$I/$1.path" ] || return 0
  path=$(cat "$I/$1.path")
  rm -f "$path.dacha-new"
  if [ -e "$I/$1.hidden" ]; then
    if there "$path"; then left="$path was created in the guest since: it stays"; else cp -Pp "$I/$1.was" "$path"; fi
  elif changed_inside "$1" "$path"; then left="$path was changed in the guest since: it stays as it is"
  elif there "$I/$1.was"; then cp -Pp "$I/$1.was" "$path.dacha-new" && mv -f "$path.dacha-new" "$path" || return 1
  else rm -f "$path" || return 1; fi
  if there "$path"; then relabel "$path"; fi
  if [ -f "$I/parents" ]; then sort -r "$I/parents" | while read -r folder; do rmdir "$folder" 2> /dev/null; done; fi
  rm -f "$I/$1.path"
  rm -f "$I/$1."*
}
put_file() { place 1 "$1" "$2" "$3"; }
take_file() { restore 1; }
"""
FRAME = _FRAME.replace("@LEDGER@", LEDGER).replace("@SAID@", SAID).replace("@END@", END)
