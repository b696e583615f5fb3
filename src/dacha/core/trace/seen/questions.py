"""Questions to a guest, in pieces: each a short POSIX shell script that changes nothing there.

A slow guest takes seconds for each, so the most telling ones come first, and each is used as soon as it is answered.
Facts in files are read from there: starting a program costs a slow guest most.
"""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.named import NamedTuple
from dacha.core.people.sessions_inside import TAIL

# The units that run a service's server.
UNITS = {"ssh": ("ssh", "sshd", "dropbear"), "rdp": ("xrdp",), "http": ("nginx", "apache2", "httpd", "lighttpd"),
         "https": ("nginx", "apache2", "httpd")}  # fmt: skip

# Services whose server is one of few programs: that none is installed can be known.
NAMED_SERVERS = ("ssh", "rdp")

# By which names the server's processes log: OpenSSH's is several programs from version 9.8 on.
SSH_PROGRAMS = ("sshd", "sshd-session", "sshd-auth", "dropbear")

LISTENERS, SERVICES, LINKS, ACCOUNT, RULES, SERVER = "listeners", "services", "links", "account", "rules", "server"
RUNNING = "running"
# The first questions, by problem: no program listens, no response, login refused.
SHUT = (LISTENERS, SERVICES, RULES, LINKS)
SILENT = (LINKS, LISTENERS, RULES, SERVICES)
REFUSED = (ACCOUNT, SERVER, SERVICES)

_PATH = "PATH=$PATH:/usr/sbin:/sbin\n"
# How commands run as root, without starting a program: root owns this file.
_RAISES = """\
printf 'raises '
if [ -O /etc/passwd ]; then echo root; else command -v sudo || command -v doas || echo none; fi
"""


class Replies(NamedTuple):
    """Which replies of the guest are asked about: those from its own `source` to these `clients` (IPv4 addresses)."""

    source: str = ""
    clients: tuple[str, ...] = ()


NO_REPLIES = Replies()


def script(piece: str, user: str, service: str, since_s: int = 900, replies: Replies = NO_REPLIES) -> str:
    """The script of a piece, whose answers `read_inside` parses; its last line marks its end. `user` is a checked name;
    of a server's log, only the last `since_s` seconds count: older lines are about something else."""
    asks = {
        LISTENERS: _listeners(),
        SERVICES: _services(service),
        LINKS: _LINKS + _policy(replies),
        ACCOUNT: _account(user, service),
        RULES: _RULES,
        SERVER: _server(user, service, since_s, replies),
        RUNNING: _RUNNING.replace("@USER@", user),
    }
    return f"{_PATH}{_RAISES}{asks[piece]}echo told {piece}\n"


def together(
    pieces: Iterable[str], user: str, service: str, since_s: int = 900, replies: Replies = NO_REPLIES
) -> str:  # fmt: skip
    """The script of several pieces, each in a subshell."""
    return "".join(f"(\n{script(piece, user, service, since_s, replies)})\n" for piece in pieces)


def _listeners() -> str:
    """With ss, which shows the programs; else from the kernel's tables (proc(5): 0A is listening). For sockets of
    systemd, the unit that it starts for a connection (systemd.socket(5))."""
    return """\
if command -v ss > /dev/null; then
  all=$(ss -Hltnp 2>/dev/null)
  case "$all" in *'"systemd"'*)
    systemctl list-sockets --no-legend --no-pager 2>/dev/null | while read -r address unit starts rest; do
      case "$address" in *:[0-9]*) echo "starts ${address##*:} ${starts%.service}" ;; esac
    done ;;
  esac
  [ "$all" ] && printf '%s\\n' "$all" | while read -r line; do
    echo "listen $line"
    p=${line#*pid=}; p=${p%%,*}
    read -r pid name state rest 2>/dev/null < "/proc/$p/stat" && echo "process $pid $state"
  done
else
  for f in /proc/net/tcp /proc/net/tcp6; do
    while read -r n l r s x; do [ "$s" = 0A ] && echo "socket $l"; done < $f 2>/dev/null
  done
fi
"""


def _services(service: str) -> str:
    units = " ".join(UNITS.get(service, ()))
    return f"""\
# The service's own last words, not its manager's.
said() {{
  journalctl -b -u "$1" -n 12 -o cat --no-pager 2>/dev/null | {{
    last=
    while read -r line; do
      case "$line" in "$1".service*|"Failed to start"*|Starting*|Started*|Stopp*|"") ;; *) last=$line ;; esac
    done
    echo "$last"
  }}
}}
[ -d /run/systemd/system ] && echo managed
{{
  systemctl show -p Id -p LoadState -p ActiveState -p NRestarts -p IPAddressDeny -p IPAddressAllow {units} 2>/dev/null
  echo
}} | while IFS='=' read -r k v; do
  case "$k" in
  Id) u=${{v%.service}} ;;
  LoadState) l=$v ;;
  ActiveState) s=$v ;;
  NRestarts) r=$v ;;
  IPAddressDeny) d=$v ;;
  IPAddressAllow) a=$v ;;
  '')
    [ "$l" = masked ] && [ "$s" != active ] && s=masked
    case "$l $seen" in
    *" $u "*) ;;
    loaded*|masked*)
      seen="$seen $u "
      # One that is started again and again has failed.
      [ "$s" = activating ] && [ "${{r:-0}}" != 0 ] && s=failed
      case "$s" in failed|activating) s="$s $(said "$u")" ;; esac
      echo "unit $u $s"
      [ "$d" ] && echo "denies $u $d / $a" ;;
    esac
    l= r= d= a= ;;
  esac
done
{"" if service in NAMED_SERVERS else _FAILED}"""


# For a service whose program is not known by its name: which of the guest's services failed, or fail again and again.
_FAILED = """\
systemctl list-units --state=failed,auto-restart --type=service --plain --no-legend 2>/dev/null | head -n 8 |
while read -r u rest; do u=${u%.service}; echo "failed $u $(said "$u")"; done
"""
_LINKS = """\
for d in /sys/class/net/*; do
  read -r flags < "$d/flags" 2>/dev/null && read -r mac < "$d/address" && read -r mtu < "$d/mtu" &&
    echo "adapter ${d##*/} $flags $mac $mtu"
done
ip -o -4 address 2>/dev/null | while read -r line; do echo "inet $line"; done
gateway=
while read -r dev to via flags r u metric mask rest; do
  [ "$to$mask" = 0000000000000000 ] && gateway=$via && break
done < /proc/net/route
echo "route $gateway"
ip -4 route 2>/dev/null | head -n 60 | while read -r line; do echo "way $line"; done
head -n 60 /proc/net/arp 2>/dev/null | while read -r line; do echo "arp $line"; done
"""


def _policy(replies: Replies) -> str:
    """The policy rules that are not the kernel's own (ip-rule(8)); if there are any, what they make of the replies."""
    asked = "".join(
        f'echo "reply {client} $(ip -4 route get {client} from {replies.source} 2>&1 | head -n 1)"\n'
        for client in replies.clients
    )
    return f"""\
if ip -4 rule 2>/dev/null | head -n 40 | {{
  ours=
  while read -r line; do
    case "$line" in 0:*|32766:*|32767:*|"") ;; *) echo "policy $line"; ours=1 ;; esac
  done
  [ "$ours" ]
}}; then
{asked or "true"}
fi
"""


def _account(user: str, service: str) -> str:
    return f"""\
while IFS=: read -r n x u g c h sh; do [ "$n" = {user} ] && p=$n && break; done < /etc/passwd
[ "$p" ] || p=$(getent passwd {user} 2>/dev/null) && {{
  [ "$p" = {user} ] || {{ sh=${{p##*:}}; h=${{p%:*}}; h=${{h##*:}}; }}
  echo "shell $sh"; [ -x "$sh" ] || echo "noshell"
  [ -d "$h" ] || echo "nohome $h"
  k=$h/.ssh/authorized_keys
  [ -f "$k" ] && {{
    n=0
    while read -r line || [ "$line" ]; do
      [ "$line" ] && n=$((n+1))
      o=${{line%% *}}
      for w in $line; do
        case "$w" in
        AAAA*)
          while [ ${{#w}} -gt {TAIL} ]; do w=${{w#?}}; done
          echo "tail $w"
          case "$o" in *=*) echo "limits $w $o" ;; esac ;;
        esac
      done
    done < "$k"
    echo "key-lines $n"
  }}
  [ -e "$k" ] && [ ! -f "$k" ] && echo "notfile $k"
  stat -c 'mode %a %U %n' "$k" "$h" "$h/.ssh" 2>/dev/null
  while IFS=: read -r n w last x1 x2 x3 x4 e x5; do
    [ "$n" = {user} ] && {{ echo "shadow ${{w%"${{w#?}}"}}x $e"; [ "$last" = 0 ] && echo must; }}
  done < /etc/shadow 2>/dev/null
}}
echo "clock $(date +%s)"
for f in /etc/nologin /run/nologin; do
  [ -e $f ] && {{ line=; read -r line < $f; echo "closed $line"; }}
done
df -P / | while read -r a b c d e f; do [ "$f" = / ] && echo "disk $e"; done
[ {service} = rdp ] && loginctl list-sessions --no-legend 2>/dev/null | awk '/ seat0 / {{print "screen " $3}}'
"""


# The user's processes: what a login waits for.
_RUNNING = """\
ps -o pid=,ppid=,args= -u @USER@ 2>/dev/null | head -n 60 | while read -r line; do echo "running $line"; done
"""
# Only root can see them: other users answer nothing for this piece.
_RULES = """\
[ "$(id -u)" = 0 ] || exit 0
command -v nft > /dev/null && { printf 'ruleset '; nft -j list ruleset 2>/dev/null | head -c 400000; echo; }
tc qdisc show 2>/dev/null | while read -r q kind h d link rest; do
  case "$kind" in noqueue|pfifo*|fq*|mq*|"") ;; *) echo "shaped $kind on $link" ;; esac
done
for f in ip ip6; do
  command -v ${f}tables-save > /dev/null && ${f}tables-save 2>/dev/null | head -n 2000 | sed "s/^/saved $f /"
done
"""


def _server(user: str, service: str, since_s: int, replies: Replies) -> str:
    """The settings of an SSH server for a user, and the last refusal in its log of that user, or of everybody."""
    if service != "ssh":
        return ""
    # By the program, not by the unit: what happens in a session is logged as its own unit's.
    who = " ".join(f"-t {program}" for program in SSH_PROGRAMS)
    # A block of its settings may be for some clients only (sshd_config(5), Match).
    client = f",host={c},addr={c},laddr={replies.source},lport=22" if (c := "".join(replies.clients[:1])) else ""
    return f"""\
[ "$(id -u)" = 0 ] || exit 0
{{ sshd -T -C "user={user}{client}" || sshd -T -C "user={user}" || sshd -T; }} 2>/dev/null | while read -r line; do
  case "$line" in
  pubkeyaccepteda*)
    # A long list, which one line of an answer has no room for.
    old=$IFS; IFS=', '; set -- $line; IFS=$old; shift
    for a; do case "$a" in *@*) ;; *) echo "algorithm $a" ;; esac; done ;;
  allow*|deny*|permitrootlogin*|pubkeyauthentication*) echo "set $line" ;;
  authorizedkeysfile*|authenticationmethods*|forcecommand*) echo "set $line" ;;
  esac
done
g=$(id -Gn {user} 2>/dev/null) && echo "groups $g"
# Where a clock was changed, journalctl shows older lines, too: each has its time.
to=$(date +%s); from=$(( to - {since_s} ))
# Of this boot, in the order in which they were written: by their times, lines of the future would be the last ones.
journalctl -b {who} -n 60 -o short-unix --no-pager 2>/dev/null |
while read -r t host who line; do
  case "$t" in *[!0-9.]*|"") continue ;; esac
  [ "${{t%%.*}}" -ge $from ] && [ "${{t%%.*}}" -le $to ] || continue
  case " $line " in
  # What followed from a refusal, not why.
  *"closed by "*|*"reset by "*|*"isconnected from "*|*"isconnect from "*) ;;
  *"refused connect"*|*"nable to negotiate"*|*"ot from a permitted host"*|*"bad ownership"*|*revoked*|\
  *"PAM unable"*|*"fork: "*|*"drop connection"*|*axStartups*|*"annot allocate"*|*"No space left"*) echo "log $line" ;;
  *fatal*|*"pam_open_session()"*|*"chdir to home"*) echo "mild $line" ;;
  *[!a-z0-9_-]{user}[!a-z0-9_-]*)
    case "$line" in
    *efused*|*enied*|*"not allowed"*|*expired*|*ocked*|*"nvalid user"*|*"oo many logins"*) echo "log $line" ;;
    esac ;;
  esac
done
"""
