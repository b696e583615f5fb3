"""Services, settings of the whole system, and commands."""

SERVICES = r"""# Services.
put_service() {
  if [ -d /run/systemd/system ]; then
    if [ ! -e "$I/noted" ]; then
      systemctl is-enabled "$1" > "$I/enabled" 2> /dev/null
      systemctl is-active "$1" > "$I/active" 2> /dev/null
      : > "$I/noted"
    fi
    run systemctl enable --now "$1" || failed
  elif command -v rc-update > /dev/null; then
    if [ ! -e "$I/noted" ]; then
      if rc-update show -a 2> /dev/null | grep -q "^ *$1 |.*[a-z]"; then echo enabled > "$I/enabled"; fi
      if rc-service "$1" status > /dev/null 2>&1; then echo active > "$I/active"; fi
      : > "$I/noted"
    fi
    run rc-update add "$1" && run rc-service "$1" start || failed
  elif command -v sysrc > /dev/null; then
    if [ ! -e "$I/noted" ]; then
      if [ "$(sysrc -n "$1_enable" 2> /dev/null)" = YES ]; then echo enabled > "$I/enabled"; fi
      if service "$1" onestatus > /dev/null 2>&1; then echo active > "$I/active"; fi
      : > "$I/noted"
    fi
    run sysrc "$1_enable=YES" && run service "$1" start || failed
  else why="no known service manager is there"; return 1; fi
}
take_service() {
  enabled=$(cat "$I/enabled" 2> /dev/null) active=$(cat "$I/active" 2> /dev/null)
  if [ -d /run/systemd/system ]; then
    case $enabled in disabled | not-found | '') run systemctl disable "$1" ;; esac
    case $active in active | activating | reloading) ;; *) run systemctl stop "$1" ;; esac
  elif command -v rc-update > /dev/null; then
    if [ -z "$enabled" ]; then run rc-update del "$1"; fi
    if [ -z "$active" ]; then run rc-service "$1" stop; fi
  elif command -v sysrc > /dev/null; then
    if [ -z "$active" ]; then run service "$1" onestop; fi
    if [ -z "$enabled" ]; then run sysrc -x "$1_enable"; fi
  fi
  return 0
}

# Settings.
put_zone() {
  if [ ! -f "/usr/share/zoneinfo/$1" ]; then why="no time zone $1 is there: add tzdata to packages"; return 1; fi
  link 1 /etc/localtime "/usr/share/zoneinfo/$1" || return 1
  if [ -f /etc/timezone ]; then echo "$1" > "$T/content"; place 2 /etc/timezone 0644 root; fi
}
take_zone() { restore 1 && restore 2; }
put_locale() {
  case $P in
    dnf) echo "LANG=$1" > "$T/content"; place 1 /etc/locale.conf 0644 root; return ;;
    apt-get) ;;
    *) why="where this system keeps its locale is not known"; return 1 ;;
  esac
  plain=$(echo "$1" | tr -d - | tr '[:upper:]' '[:lower:]')
  if ! locale -a 2> /dev/null | tr '[:upper:]' '[:lower:]' | grep -qxF "$plain"; then
    if [ ! -f /etc/locale.gen ]; then why="no locale can be generated: add locales to packages"; return 1; fi
    charset=${1#*.}
    [ "$charset" != "$1" ] || charset=ISO-8859-1
    { cat /etc/locale.gen; echo "$1 ${charset%@*}"; } > "$T/content"
    place 2 /etc/locale.gen 0644 root && { run locale-gen || failed; } || return 1
  fi
  echo "LANG=$1" > "$T/content"
  place 1 /etc/default/locale 0644 root
}
take_locale() {
  generated=
  if [ -e "$I/2.path" ]; then generated=yes; fi
  restore 1 && restore 2 || return 1
  if [ -n "$generated" ]; then run locale-gen; fi
  return 0
}
put_keyboard() {
  case $P in
    apt-get) place 1 /etc/default/keyboard 0644 root || return 1 ;;
    dnf) echo "KEYMAP=$1" > "$T/content"; place 1 /etc/vconsole.conf 0644 root; return ;;
    *) why="where this system keeps its keyboard layout is not known"; return 1 ;;
  esac
  if command -v setupcon > /dev/null; then run setupcon; fi
  return 0
}
take_keyboard() {
  restore 1 || return 1
  if command -v setupcon > /dev/null; then run setupcon; fi
  return 0
}
put_mirror() {
  if [ "$P" != apt-get ]; then why="a package source is changed only with apt"; return 1; fi
  release=$(. /etc/os-release && echo "${VERSION_CODENAME:-}")
  if [ -z "$release" ]; then why="/etc/os-release names no release"; return 1; fi
  { echo "deb $1 $release $2"; echo "deb $1 $release-updates $2"; } > "$T/content"
  place 1 /etc/apt/sources.list 0644 root || return 1
  place=2
  for name in debian.sources ubuntu.sources debian.list; do
    hide $place /etc/apt/sources.list.d/$name
    place=$((place + 1))
  done
}
# What packages come from or through: a file that is there before they are.
put_source() { place 1 "$1" "$2" "$3"; }
take_source() { restore 1; }
take_mirror() { restore 1 && restore 2 && restore 3 && restore 4; }

# Commands run once; what they did is not taken back.
put_command() {
  [ -e "$I/done" ] && return 0
  cp "$T/content" "$T/command"
  run sh "$T/command" || failed
}
take_command() { left='what it did is not taken back'; }
"""
