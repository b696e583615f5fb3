"""Accounts: groups, shells, administrators; a home folder with files of its own is never removed."""

ACCOUNTS = r"""# Accounts.
member() { id -nG "$1" 2> /dev/null | tr ' ' '\n' | grep -qxF "$2"; }
# make_user NAME SHELL: an account; one whose making was cut off is made anew.
make_user() {
  if [ -e "$I/making" ] || [ -e "$I/made" ]; then run groupdel "$1"; fi
  : > "$I/making"
  shell_of_new=${2:-/bin/sh}
  if [ -z "$2" ] && [ -x /bin/bash ]; then shell_of_new=/bin/bash; fi
  if command -v useradd > /dev/null; then run useradd -m -s "$shell_of_new" "$1"
  elif command -v pw > /dev/null; then run pw useradd "$1" -m -s "$shell_of_new"
  else run adduser -D -s "$shell_of_new" "$1"; fi
}
put_user() {
  user=$1 shell=$2 administrator=$3 groups=$4
  if [ -n "$shell" ] && [ ! -x "$shell" ]; then why="no shell $shell is there"; return 1; fi
  if id "$user" > /dev/null 2>&1; then [ -e "$I/making" ] || [ -e "$I/made" ] || : > "$I/theirs"
  else
    make_user "$user" "$shell" || failed || return 1
    # No password, and not locked: keys open it.
    echo "$user:*" | chpasswd -e > /dev/null 2>&1
  fi
  if [ -e "$I/making" ]; then mv "$I/making" "$I/made"; fi
  if [ -n "$shell" ]; then put_shell "$user" "$shell" || return 1; fi
  : >> "$I/groups"
  for group in $groups; do
    member "$user" "$group" && continue
    if ! grep -q "^$group:" /etc/group; then
      echo "$group" >> "$L/groups"
      run groupadd "$group" || run addgroup "$group" || run pw groupadd "$group" || failed || return 1
    fi
    echo "$group" >> "$I/groups"
    run usermod -a -G "$group" "$user" || run addgroup "$user" "$group" || run pw groupmod "$group" -m "$user" ||
      failed || return 1
  done
  for group in $(cat "$I/groups"); do
    case " $groups " in *" $group "*) ;; *) leave "$user" "$group" ;; esac
  done
  if [ -z "$administrator" ]; then restore administrator
  elif command -v sudo > /dev/null; then
    echo "$user ALL=(ALL:ALL) NOPASSWD: ALL" > "$T/content"
    place administrator "/etc/sudoers.d/90-dacha-$(echo "$user" | tr . _)" 0440 root
  elif command -v doas > /dev/null; then
    echo "permit nopass $user" > "$T/content"
    place administrator "/etc/doas.d/90-dacha-$user.conf" 0400 root
  else why="neither sudo nor doas is installed: add one of them to packages"; return 1; fi
}
shell_of() { sed -n "s|^$1:.*:||p" /etc/passwd; }
put_shell() {
  [ "$(shell_of "$1")" = "$2" ] && return 0
  [ -e "$I/made" ] || [ -e "$I/shell" ] || shell_of "$1" > "$I/shell"
  run usermod -s "$2" "$1" || run pw usermod "$1" -s "$2" ||
    run sed -i "s|^\($1:.*:\)[^:]*$|\1$2|" /etc/passwd || failed
}
leave() {
  run gpasswd -d "$1" "$2" || run delgroup "$1" "$2" || run pw groupmod "$2" -d "$1"
  grep -vxF "$2" "$I/groups" > "$I/groups.new"
  mv "$I/groups.new" "$I/groups"
}
# Files in a home folder that are neither the skeleton's nor the lab's keys.
own_files() {
  (cd "$1" 2> /dev/null && find . -xdev ! -type d | while read -r file; do
    case $file in ./.ssh/authorized_keys | ./.ssh/authorized_keys.new) continue ;; esac
    if there "/etc/skel/$file" && same "$file" "/etc/skel/$file"; then continue; fi
    echo "$file"
  done)
}
take_user() {
  restore administrator
  left=
  if ! id "$1" > /dev/null 2>&1; then
    # Its making or its removal was cut off.
    [ -e "$I/making" ] || [ -e "$I/made" ] || return 0
    make_user "$1" '' || failed || return 1
  fi
  if [ ! -e "$I/made" ] && [ ! -e "$I/making" ]; then
    for group in $(cat "$I/groups" 2> /dev/null); do leave "$1" "$group"; done
    if [ -s "$I/shell" ]; then put_shell "$1" "$(cat "$I/shell")"; fi
    return 0
  fi
  home=$(sed -n "s|^$1:\([^:]*:\)\{4\}\([^:]*\):.*|\2|p" /etc/passwd)
  { loginctl terminate-user "$1" || pkill -KILL -u "$1"; } > /dev/null 2>&1
  tries=0
  until run userdel "$1" || run deluser "$1" || run pw userdel "$1"; do
    # Its last processes may still be ending.
    tries=$((tries + 1))
    if [ $tries -gt 5 ]; then failed; return 1; fi
    sleep 1
  done
  case $home in
    /home/?* | /usr/home/?*)
      count=$(own_files "$home" | wc -l)
      if [ "$count" -gt 0 ]; then left="its home folder $home stays: $((count)) files of its own are there"
      else rm -rf "$home"; fi ;;
  esac
}
sweep_groups() {
  [ -s "$L/groups" ] || return 0
  for group in $(sort -u "$L/groups"); do
    # One that has got other members is somebody else's now.
    if grep -q "^$group:[^:]*:[^:]*:$" /etc/group; then run groupdel "$group" || run delgroup "$group"; fi
    if grep -q "^$group:" /etc/group; then echo "$group"; fi
  done > "$L/groups.new"
  mv "$L/groups.new" "$L/groups"
}
"""
