"""What a guest itself tells through its agent: who listens, its accounts, its links, its disk.

A guest may lie: what it says is a cause that is named, and never what makes a hop fine or broken.
"""

from __future__ import annotations

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple
from dacha.core.people.sessions_inside import TAIL
from dacha.core.units import whole_number

# By service: the programs that serve it, and the units that start them.
SERVERS = {"ssh": ("sshd", "dropbear"), "rdp": ("xrdp",), "vnc": ("Xvnc", "x11vnc", "Xtigervnc")}
UNITS = {"ssh": ("ssh", "sshd", "dropbear"), "rdp": ("xrdp",), "http": ("nginx", "apache2", "httpd", "lighttpd"),
         "https": ("nginx", "apache2", "httpd")}  # fmt: skip
# Lines of answers that are read, and how much of each: a guest may say anything.
LINES, LONGEST = 400, 300


class Listener(NamedTuple):
    """A socket that listens: its address, its port, the program that has it ("" where that is not told)."""

    address: str
    port: int
    program: str

    @property
    def on_loopback(self) -> bool:
        return self.address.startswith("127.") or self.address == "::1"

    @property
    def by_ipv6_alone(self) -> bool:
        """True for one that takes no IPv4 (the wildcard of both is told as *)."""
        return ":" in self.address


class Unit(NamedTuple):
    """A service: whether it is there, whether it runs ("active", "inactive", "failed", "masked"), its last words in the
    log."""

    name: str
    state: str
    said: str = ""


class Link(NamedTuple):
    """A network link: its name, whether it is up, its hardware address, its IPv4 addresses ("ADDRESS/PREFIX")."""

    name: str
    up: bool
    hardware: str = ""
    addresses: tuple[str, ...] = ()


class Drops(NamedTuple):
    """A rule or policy of the guest's own firewall that drops: its family and table, its chain, its text."""

    table: str
    chain: str
    text: str


class Inside(NamedTuple):
    """What was told. `managed` is whether systemd looks after its services, which `units` are then. `shell` is the
    user's, None for a user that is not there; `shell_there` whether that can be started; `keys` how many lines the
    user's key file has, None for no file, and `tails` the last letters of each key in it; `mode` that file's bits and
    owner; `folders` those above it (path, bits, owner); `mark` the first sign of the password's hash ("!" is a locked
    account), `expires` the day (since 1970) at which the account does, `must` whether its password has to be changed
    first; `closed` the text of /etc/nologin; `drops` what the guest's own firewall drops; `settings` of its SSH server
    (sshd -T); `log` its server's last words on somebody refused; `clock` the guest's (Unix seconds); `gateway` where
    its default route leads ("" for none, None where it was not told); `at_screen` who is logged in at its own
    screen."""

    listeners: tuple[Listener, ...] = ()
    managed: bool = False
    units: tuple[Unit, ...] = ()
    links: tuple[Link, ...] = ()
    gateway: str | None = None
    shell: str | None = None
    shell_there: bool = True
    keys: int | None = None
    tails: tuple[str, ...] = ()
    mode: str = ""
    folders: tuple[tuple[str, str, str], ...] = ()
    mark: str = ""
    expires: int | None = None
    must: bool = False
    clock: int = 0
    closed: str | None = None
    disk: int | None = None
    drops: tuple[Drops, ...] = ()
    settings: tuple[tuple[str, str], ...] = ()
    log: str = ""
    at_screen: tuple[str, ...] = ()

    @property
    def today(self) -> int:
        """The guest's day, since 1970."""
        return self.clock // 86400

    def link_of(self, hardware: str) -> Link | None:
        """The link with this hardware address."""
        return next((x for x in self.links if x.hardware.lower() == hardware.lower()), None)


def questions(user: str, service: str) -> str:
    """A script for a POSIX shell in the guest: its answers are what `read_inside` reads. `user` is a checked name."""
    units = " ".join(UNITS.get(service, ()))
    return f"""\
PATH=$PATH:/usr/sbin:/sbin
ss -Hltnp 2>/dev/null | sed 's/^/listen /'
units=$(systemctl show -p Id -p LoadState -p ActiveState {units} 2>/dev/null | awk -F= '
/^Id/ {{i=$2; sub(/[.]service$/, "", i)}}
/^LoadState/ {{l=$2}}
/^ActiveState/ {{a=$2}}
/^$/ {{p()}}
END {{p()}}
function p() {{
  if (i != "" && !(i in seen) && (l == "loaded" || l == "masked")) {{
    seen[i]=1
    print i, l == "masked" && a != "active" ? l : a
  }}
  i=""
}}')
command -v systemctl > /dev/null && echo managed
echo "$units" | while read -r u s; do
  [ "$s" = failed ] && s="$s $(journalctl -u "$u" -p 3 -n 1 -o cat --no-pager 2>/dev/null | head -1)"
  [ "$u" ] && echo "unit $u $s"
done
p=$(getent passwd {user}) && {{
  sh=${{p##*:}}; h=$(echo "$p" | cut -d: -f6)
  echo "shell $sh"; [ -x "$sh" ] || echo "noshell"
  k=$h/.ssh/authorized_keys
  [ -f "$k" ] && echo "keys $(grep -c . "$k") $(stat -c '%a %U' "$k")"
  [ -f "$k" ] && awk '{{for (i=1; i<=NF; i++) if ($i ~ /^AAAA/) print "tail " substr($i, length($i)-{TAIL - 1})}}' "$k"
  for d in "$h" "$h/.ssh"; do [ -d "$d" ] && echo "folder $(stat -c '%a %U' "$d") $d"; done
  getent shadow {user} | awk -F: '{{print "shadow " substr($2,1,1) "x " $8; if ($3 == "0") print "must"}}'
}}
echo "clock $(date +%s)"
[ -e /etc/nologin ] && echo "closed $(head -1 /etc/nologin)"
df -P / | awk 'NR==2 {{print "disk " $5}}'
ip -o link 2>/dev/null | sed 's/^/link /'
ip -o -4 address 2>/dev/null | sed 's/^/inet /'
echo "gateway $(ip -4 route show default 2>/dev/null | head -1)"
nft list ruleset 2>/dev/null | awk '
/^table/ {{t=$2 ":" $3}}
/^[ \t]*chain/ {{c=$2; other=0}}
/hook/ {{other=!/hook input/; if (!other && /policy drop/) print "drops", t, c, $0; next}}
/[ \t](drop|reject)/ {{if (!other) print "drops", t, c, $0}}' | head -20
[ {service} = rdp ] && loginctl list-sessions --no-legend 2>/dev/null | awk '/ seat0 / {{print "screen " $3}}'
[ {service} = ssh ] && {{
  sshd -T 2>/dev/null | grep -E '^(allowusers|denyusers|pubkeyauthentication|authorizedkeysfile) ' | sed 's/^/set /'
  [ "$units" ] && journalctl -u "${{units%% *}}" -n 30 -o cat --no-pager 2>/dev/null |
    grep -iE 'refused|denied|not allowed|expired|locked|invalid user|bad ownership' | tail -n 1 | sed 's/^/log /'
}}
echo end
"""


def read_inside(text: str) -> Inside | None:
    """What was told; None where the script did not come to its end. What has another shape is passed over."""
    lines = [harmless(line)[:LONGEST].strip() for line in text.splitlines()[:LINES]]
    if "end" not in lines:
        return None
    found = Inside()
    for line in lines:
        word, _, rest = line.partition(" ")
        try:
            found = _with(found, word, rest)
        except (ValueError, IndexError):
            continue
    return found


def _number(text: str) -> int:
    """The number that it is. Raises ValueError."""
    number = whole_number(text)
    if number is None:
        raise ValueError(text)
    return number


def _with(found: Inside, word: str, rest: str) -> Inside:
    words = rest.split()
    match word:
        case "listen":
            address, _, port = words[3].rpartition(":")
            program = rest.partition('(("')[2].partition('"')[0]
            listener = Listener(address.strip("[]").partition("%")[0], _number(port), program)
            return found._replace(listeners=(*found.listeners, listener))
        case "managed":
            return found._replace(managed=True)
        case "unit":
            return found._replace(units=(*found.units, Unit(words[0], words[1], " ".join(words[2:]))))
        case "keys":
            return found._replace(keys=_number(words[0]), mode=" ".join(words[1:3]))
        case "tail":
            return found._replace(tails=(*found.tails, words[0]))
        case "folder":
            return found._replace(folders=(*found.folders, (words[2], words[0], words[1])))
        case "shadow":
            return found._replace(mark=words[0][0], expires=_number(words[1]) if len(words) > 1 else None)
        case "must":
            return found._replace(must=True)
        case "drops":
            return found._replace(
                drops=(*found.drops, Drops(words[0].replace(":", " "), words[1], " ".join(words[2:])))
            )
        case "shell":
            return found._replace(shell=rest)
        case "noshell":
            return found._replace(shell_there=False)
        case "closed":
            return found._replace(closed=rest)
        case "clock":
            return found._replace(clock=_number(rest))
        case "disk":
            return found._replace(disk=_number(rest.rstrip("%")))
        case "set":
            return found._replace(settings=(*found.settings, (words[0], " ".join(words[1:]))))
        case "screen":
            return found._replace(at_screen=(*found.at_screen, words[0]))
        case "log":
            return found._replace(log=rest)
        case _:
            return _with_link(found, word, words)


def _with_link(found: Inside, word: str, words: list[str]) -> Inside:
    """With what `ip -o` tells of links, addresses and the default route."""
    match word:
        case "gateway":
            return found._replace(gateway=words[words.index("via") + 1] if "via" in words else "")
        case "link":
            name, flags = words[1].rstrip(":").partition("@")[0], words[2].strip("<>").split(",")
            hardware = words[words.index("link/ether") + 1] if "link/ether" in words else ""
            return found._replace(links=(*found.links, Link(name, "UP" in flags, hardware)))
        case "inet":
            links = tuple(
                x._replace(addresses=(*x.addresses, words[3])) if x.name == words[1] else x for x in found.links
            )
            return found._replace(links=links)
        case _:
            return found


def others_write(bits: str) -> bool:
    """True for permission bits (octal) by which the group or everybody may write."""
    return any(bit in "2367" for bit in bits[-2:])


def other_ports(inside: Inside | None, service: str) -> tuple[int, ...]:
    """Ports on which programs that serve this listen in the guest, for others than itself."""
    if inside is None:
        return ()
    serving = (x for x in inside.listeners if x.program in SERVERS.get(service, ()) and not x.on_loopback)
    return tuple(sorted({x.port for x in serving}))
