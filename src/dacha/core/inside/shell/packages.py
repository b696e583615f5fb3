"""Packages: installed together, and removed with what came along with them."""

PACKAGES = r"""# Packages. What came along with them is in $L/pool, and goes when nothing needs it any more.
OPTIONS='-o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold -o DPkg::Lock::Timeout=120'
has() {
  case $P in
    apt-get) [ "$(dpkg-query -W -f '${db:Status-Status}' "$1" 2> /dev/null)" = installed ] ;;
    dnf) rpm -q "$1" ;;
    apk) apk info -e "$1" ;;
    pkg) pkg info -e "$1" ;;
    *) false ;;
  esac > /dev/null 2>&1
}
names() {
  case $P in
    apt-get) dpkg-query -W -f '${db:Status-Status} ${Package}\n' | sed -n 's/^installed //p' ;;
    dnf) rpm -qa --qf '%{NAME}\n' ;;
    apk) apk info ;;
    pkg) pkg query %n ;;
  esac
}
refresh() {
  case $P in
    apt-get) run apt-get -qq $OPTIONS update ;;
    dnf) run dnf -q makecache ;;
    apk) run apk -q update ;;
    pkg) run pkg update -q ;;
  esac
}
# A package manager that was killed at our work completes that first, when the next script starts.
begun() { : > "$L/working"; }
ended() { set -- $?; rm -f "$L/working"; return "$1"; }
halves() {
  dpkg-query -W -f '${db:Status-Status} ${Package}\n' |
    sed -n -e '/^installed /d' -e '/^config-files /d' -e '/^not-installed /d' -e 's/^[^ ]* //p'
}
repair() {
  if [ -f "$L/working" ] && [ "$P" = apt-get ]; then
    run dpkg --force-confdef --force-confold --configure -a
    for name in $(halves); do
      # One that was not there before is installed anew; others are completed.
      if [ -f "$L/before" ] && ! grep -qxF "$name" "$L/before"; then
        run dpkg --force-depends --force-remove-reinstreq --purge "$name"
      fi
    done
    run apt-get -qq -y $OPTIONS -f install
    rm -f "$L/working"
  fi
  pooled
}
install() {
  begun
  case $P in
    apt-get) run apt-get -qq -y $OPTIONS install "$@" ;;
    dnf) run dnf -q -y install "$@" ;;
    apk) run apk -q add "$@" ;;
    pkg) run pkg install -q -y "$@" ;;
  esac
  ended
}
# packages NUMBER ID NAME ...: all that are missing, at once; one by one if that fails, so that each has its own reason.
packages() {
  if [ -z "$P" ]; then
    while [ $# -gt 0 ]; do say "$1 failed no known package manager is there"; shift 3; done
    return
  fi
  missing=
  : > "$T/asked"
  while [ $# -gt 0 ]; do
    I=$L/$2 name=${3%%=*}
    mkdir -p "$I" && printf '%s\n' "$name" > "$I/value"
    if has "$name"; then
      if grep -qxF "$name" "$L/pool" 2> /dev/null; then : > "$I/ours"; fi
      [ -f "$I/ours" ] || : > "$I/theirs"
      stays "$name"
    else
      [ -f "$I/theirs" ] || : > "$I/ours"
      missing="$missing $3"
    fi
    echo "$1 $name $3" >> "$T/asked"
    shift 3
  done
  if [ -n "$missing" ]; then
    [ -f "$L/before" ] || { names > "$L/before.new" && mv "$L/before.new" "$L/before"; }
    # shellcheck disable=SC2086  # a word each
    install $missing || { refresh && install $missing; }
  fi
  while read -r number name asked; do
    if has "$name" || install "$asked"; then say "$number done"; else failed; say "$number failed $why"; fi
  done < "$T/asked"
  pooled
}
# stays NAME: what came along with another package is not removed with that one.
stays() {
  if [ "$P" = apt-get ] && [ -n "$(apt-mark showauto "$1" 2> /dev/null)" ]; then
    : > "$I/auto"
    run apt-mark manual "$1"
  fi
}
pooled() {
  [ -f "$L/before" ] || return 0
  cat "$L/before" "$L"/package-*/value > "$T/known"
  names | grep -vxF -f "$T/known" > "$T/came"
  if [ -s "$T/came" ]; then
    cat "$T/came" >> "$L/pool"
    # A killed apt may not have noted that nobody asked for them.
    # shellcheck disable=SC2046  # a word each
    if [ "$P" = apt-get ]; then run apt-mark auto $(cat "$T/came"); fi
  fi
  rm -f "$L/before"
}
# needing NAME: the packages that would go with it, except those that leave too.
needing() {
  case $P in
    apt-get) apt-get -s purge "$1" 2> /dev/null | awk '/^(Purg|Remv) / { print $2 }' ;;
    dnf) rpm -e --test "$1" 2>&1 | sed -n 's/.*is needed by (installed) \(.*\)-[^-]*-[^-]*$/\1/p' ;;
    apk) apk info -q -r "$1" 2> /dev/null | sed 's/-[0-9][^-]*-r[0-9]*$//' ;;
    pkg) pkg query %rn "$1" ;;
  esac | sort -u | while read -r name; do
    [ "$name" = "$1" ] || grep -qxF "$name" "$T/leaving" "$L/pool" 2> /dev/null || printf ' %s' "$name"
  done
}
remove() {
  begun
  case $P in
    apt-get) run apt-get -qq -y $OPTIONS purge "$@" ;;
    dnf) run dnf -q -y remove "$@" ;;
    apk) run apk -q del "$@" ;;
    pkg) run pkg delete -q -y "$@" ;;
  esac
  ended
}
# traces NAME: something of it is there, if only its configuration.
traces() {
  if [ "$P" = apt-get ]; then
    case $(dpkg-query -W -f '${db:Status-Status}' "$1" 2> /dev/null) in '' | not-installed) false ;; esac
  else has "$1"; fi
}
take_package() {
  if [ ! -f "$I/ours" ]; then
    if [ -f "$I/auto" ] && has "$1"; then run apt-mark auto "$1"; fi
    return 0
  fi
  traces "$1" || return 0
  needed=$(needing "$1")
  [ -n "$needed" ] || { remove "$1" || failed; return; }
  if [ "$P" = apt-get ]; then
    run apt-mark auto "$1"
    others=
    for name in $needed; do
      if [ ! -f "$L/package-$name/ours" ]; then others=yes; fi
    done
    # Needed by packages of the lab alone: it goes with them.
    if [ -z "$others" ]; then echo "$1" >> "$L/pool"; return 0; fi
  fi
  left="needed by$needed"
}
sweep_packages() {
  [ -s "$L/pool" ] && [ "$P" = apt-get ] || return 0
  # apt forgets at once that nobody asked for what it is about to remove: if it was killed then, it is told again.
  again=
  for name in $(cat "$L/sweeping" 2> /dev/null); do
    if has "$name" && [ ! -d "$L/package-$name" ]; then again="$again $name"; fi
  done
  # shellcheck disable=SC2086  # a word each
  if [ -n "$again" ]; then run apt-mark auto $again; fi
  while :; do
    unneeded=$(apt-get -s autoremove 2> /dev/null | awk '/^Remv / { print $2 }' | grep -xF -f "$L/pool")
    [ -n "$unneeded" ] || break
    echo "$unneeded" > "$L/sweeping"
    # shellcheck disable=SC2086  # a word each
    remove $unneeded || break
  done
  [ -n "$unneeded" ] || rm -f "$L/sweeping"
  for name in $(sort -u "$L/pool"); do
    if has "$name"; then echo "$name"
    elif traces "$name"; then remove "$name"; fi
  done > "$L/pool.new"
  mv "$L/pool.new" "$L/pool"
}
"""
