"""What a guest itself tells through its agent: who listens, its accounts, its disk; and what that explains.

A guest may lie: what it says is a cause that is named, and never what makes a hop fine or broken.
"""

from __future__ import annotations

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple

# By service: the programs that serve it, and the units that start them.
SERVERS = {"ssh": ("sshd", "dropbear"), "rdp": ("xrdp",), "vnc": ("Xvnc", "x11vnc", "Xtigervnc")}
UNITS = {"ssh": ("ssh", "sshd", "dropbear"), "rdp": ("xrdp",), "http": ("nginx", "apache2", "httpd", "lighttpd"),
         "https": ("nginx", "apache2", "httpd")}  # fmt: skip
FULL = 98
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


class Unit(NamedTuple):
    """A service: whether it is there, whether it runs ("active", "inactive", "failed"), its last words in the log."""

    name: str
    state: str
    said: str = ""


class Inside(NamedTuple):
    """What was told. `shell` is the user's, None for a user that is not there; `shell_there` whether that can be
    started; `keys` how many lines the user's key file has, None for no file; `mode` that file's bits and owner; `mark`
    the first sign of the password's hash ("!" is a locked account), `expires` the day (since 1970) at which the account
    does; `closed` the text of /etc/nologin; `drops` lines of the guest's own firewall that drop."""

    listeners: tuple[Listener, ...] = ()
    units: tuple[Unit, ...] = ()
    shell: str | None = None
    shell_there: bool = True
    keys: int | None = None
    mode: str = ""
    mark: str = ""
    expires: int | None = None
    today: int = 0
    closed: str | None = None
    disk: int | None = None
    drops: tuple[str, ...] = ()


def questions(user: str, service: str) -> str:
    """A script for a POSIX shell in the guest: its answers are what `read_inside` reads. `user` is a checked name."""
    units = " ".join(UNITS.get(service, ()))
    return f"""\
PATH=$PATH:/usr/sbin:/sbin
ss -Hltnp 2>/dev/null | sed 's/^/listen /'
for u in {units}; do
  s=$(systemctl show -p ActiveState --value $u 2>/dev/null)
  l=$(systemctl show -p LoadState --value $u 2>/dev/null)
  [ "$l" = loaded ] && echo "unit $u $s $(journalctl -u $u -p 3 -n 1 -o cat --no-pager 2>/dev/null | head -1)"
done
p=$(getent passwd {user}) && {{
  sh=${{p##*:}}; h=$(echo "$p" | cut -d: -f6)
  echo "shell $sh"; [ -x "$sh" ] || echo "noshell"
  k=$h/.ssh/authorized_keys
  [ -f "$k" ] && echo "keys $(grep -c . "$k") $(stat -c '%a %U' "$k")"
  getent shadow {user} | awk -F: '{{print "shadow " substr($2,1,1) "x " $8}}'
}}
echo "today $(( $(date +%s) / 86400 ))"
[ -e /etc/nologin ] && echo "closed $(head -1 /etc/nologin)"
df -P / | awk 'NR==2 {{print "disk " $5}}'
nft list ruleset 2>/dev/null | grep -E 'policy drop|[ ]drop|reject' | head -5 | sed 's/^[ \\t]*/drops /'
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


def _with(found: Inside, word: str, rest: str) -> Inside:
    words = rest.split()
    if word == "listen":
        address, _, port = words[3].rpartition(":")
        program = rest.partition('(("')[2].partition('"')[0]
        listener = Listener(address.strip("[]").partition("%")[0], int(port), program)
        return found._replace(listeners=(*found.listeners, listener))
    if word == "unit":
        return found._replace(units=(*found.units, Unit(words[0], words[1], " ".join(words[2:]))))
    if word == "keys":
        return found._replace(keys=int(words[0]), mode=" ".join(words[1:3]))
    if word == "shadow":
        return found._replace(mark=words[0][0], expires=int(words[1]) if len(words) > 1 else None)
    if word == "drops":
        return found._replace(drops=(*found.drops, rest))
    if word == "shell":
        return found._replace(shell=rest)
    if word == "noshell":
        return found._replace(shell_there=False)
    if word == "closed":
        return found._replace(closed=rest)
    if word == "today":
        return found._replace(today=int(rest))
    if word == "disk":
        return found._replace(disk=int(rest.rstrip("%")))
    return found


def other_ports(inside: Inside | None, service: str) -> tuple[int, ...]:
    """Ports on which programs that serve this listen in the guest, for others than itself."""
    if inside is None:
        return ()
    serving = (x for x in inside.listeners if x.program in SERVERS.get(service, ()) and not x.on_loopback)
    return tuple(sorted({x.port for x in serving}))


def why_shut(inside: Inside | None, service: str, port: int) -> tuple[str, str, str] | None:
    """Why nothing answers at a port of the guest, by what it tells: what is so, what that means, what to type there;
    None where it tells nothing that explains it."""
    if inside is None:
        return None
    here = [x for x in inside.listeners if x.port == port]
    if here and all(x.on_loopback for x in here):
        at = f"{here[0].program or 'its server'} listens on {here[0].address} alone"
        return at, "only the guest itself can reach it", "let it listen on every address (ListenAddress 0.0.0.0)"
    if here:
        if inside.drops:
            return f"{here[0].program or 'a server'} listens there", f"its own firewall: {inside.drops[0]}", ""
        return None
    unit = next((u for u in inside.units if u.state == "failed"), next(iter(inside.units), None))
    if unit is None:
        return ("no server for it is installed", "", "") if service in UNITS else None
    if unit.state == "failed":
        said = f": {unit.said}" if unit.said else ""
        return f"its service {unit.name} failed{said}", "its server does not start", f"systemctl status {unit.name}"
    if unit.state != "active":
        return (
            f"its service {unit.name} is {unit.state}",
            "its server is stopped",
            f"systemctl enable --now {unit.name}",
        )
    return None
