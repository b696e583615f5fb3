"""Time servers: the settings of the time service that a system has."""

# find_clock: the file with the servers of the time service, in F. Its form follows from its name.
FIND = r"""find_clock() {
  F=
  for file in /etc/chrony/chrony.conf /etc/chrony.conf /etc/ntp.conf; do
    if [ -f "$file" ]; then F=$file; return; fi
  done
  for file in /lib/systemd/systemd-timesyncd /usr/lib/systemd/systemd-timesyncd; do
    if [ -x "$file" ]; then F=/etc/systemd/timesyncd.conf.d/lab.conf; return; fi
  done
  if [ -f /etc/conf.d/ntpd ]; then F=/etc/conf.d/ntpd; return; fi
  false
}
# clock_text SERVERS: what that file is with these servers, and no others.
clock_text() {
  case $F in
    */lab.conf) printf '[Time]\nNTP=%s\n' "$1" ;;
    */ntpd)
      options=-N
      for server in $1; do options="$options -p $server"; done
      printf 'NTPD_OPTS="%s"\n' "$options" ;;
    *)
      for server in $1; do echo "server $server iburst"; done
      sed -e '/^[[:space:]]*server[[:space:]]/d' -e '/^[[:space:]]*pool[[:space:]]/d' "$F" ;;
  esac
}
"""
CLOCK = (
    FIND
    + r"""put_clock() {
  if ! find_clock; then why="no time service is there: add chrony to packages"; return 1; fi
  clock_text "$1" > "$T/content"
  place 1 "$F" 0644 root || return 1
  restart_clock || { why="its time service does not run: $F was written"; return 1; }
}
take_clock() { restore 1 && { restart_clock; true; }; }
# restart_clock: the service that runs reads its settings again; false if none does.
restart_clock() {
  for name in chrony chronyd systemd-timesyncd ntpsec ntp ntpd; do
    if [ -d /run/systemd/system ]; then
      if systemctl -q is-active "$name"; then run systemctl restart "$name"; return; fi
    elif command -v rc-service > /dev/null; then
      if rc-service "$name" status > /dev/null 2>&1; then run rc-service "$name" restart; return; fi
    elif service "$name" onestatus > /dev/null 2>&1; then run service "$name" onerestart; return; fi
  done
  false
}
"""
)
