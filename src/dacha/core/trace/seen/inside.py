"""What a guest itself tells through its agent: who listens, its accounts, its links, its disk.

A guest may lie: what it says is a cause that is named, and never what makes a hop fine or broken.
"""

from __future__ import annotations

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple
from dacha.core.units import whole_number

# By service: the programs that serve it.
SERVERS = {"ssh": ("sshd", "dropbear"), "rdp": ("xrdp",), "vnc": ("Xvnc", "x11vnc", "Xtigervnc")}
# linux/if.h: an adapter's flags.
_IFF_UP = 1
# Lines of answers that are read, and how much of each: a guest may say anything.
LINES, LONGEST = 400, 300


class Listener(NamedTuple):
    """A socket that listens: its address, its port, the program that has it ("" where that is not told),
    that program's process and its state as the kernel has it (proc(5): "T" is stopped)."""

    address: str
    port: int
    program: str
    pid: int = 0
    state: str = ""

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
    screen. `told` are the pieces (`questions`) that came to their end: only of those a missing answer means "no"."""

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
    told: frozenset[str] = frozenset()

    def knows(self, piece: str) -> bool:
        """True if the guest told all of a piece: what is missing from it is not there."""
        return piece in self.told

    @property
    def today(self) -> int:
        """The guest's day, since 1970."""
        return self.clock // 86400

    def link_of(self, hardware: str) -> Link | None:
        """The link with this hardware address."""
        return next((x for x in self.links if x.hardware.lower() == hardware.lower()), None)


def read_inside(text: str, found: Inside | None = None) -> Inside | None:
    """What was told, added to what was `found` before; None where no piece came to its end. What has another shape is
    passed over."""
    lines = [harmless(line)[:LONGEST].strip() for line in text.splitlines()[:LINES]]
    if not any(line.startswith("told ") for line in lines):
        return found
    found = found or Inside()
    for line in lines:
        word, _, rest = line.partition(" ")
        try:
            found = _with(found, word, rest)
        except (ValueError, IndexError):
            continue
    return found


def _hex_address(digits: str) -> str:
    """An IPv4 address as the kernel lists it: in the host's order (proc(5)). Raises ValueError."""
    octets = bytes.fromhex(digits)[::-1]
    if len(octets) != 4:
        raise ValueError(digits)
    return ".".join(map(str, octets))


def _socket(text: str) -> Listener:
    """A listening socket as the kernel lists it: address and port in hexadecimal digits, the address in words of four
    bytes in the host's order (proc(5)). Raises ValueError."""
    digits, _, port = text.partition(":")
    if len(digits) == 32:
        known = {"0" * 32: "::", "0" * 24 + "01000000": "::1"}
        return Listener(known.get(digits, "::ffff"), int(port, 16), "")
    return Listener(_hex_address(digits), int(port[:4], 16), "")


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
            pid = rest.partition("pid=")[2].partition(",")[0]
            number = whole_number(pid) or 0
            listener = Listener(address.strip("[]").partition("%")[0], _number(port), program, number)
            return found._replace(listeners=(*found.listeners, listener))
        case "process":
            number = _number(words[0])
            listeners = tuple(x._replace(state=words[1][:1]) if x.pid == number else x for x in found.listeners)
            return found._replace(listeners=listeners)
        case "socket":
            listener = _socket(words[0])
            # A socket for both protocols is told as *, as ss does.
            shown = listener._replace(address="*") if listener.address == "::" else listener
            return found._replace(listeners=(*found.listeners, shown))
        case "told":
            return found._replace(told=found.told | {words[0]})
        case "managed":
            return found._replace(managed=True)
        case "unit":
            return found._replace(units=(*found.units, Unit(words[0], words[1], " ".join(words[2:]))))
        case "key-lines":
            return found._replace(keys=_number(words[0]))
        case "mode" if words[2].endswith("/authorized_keys"):
            return found._replace(mode=" ".join(words[:2]))
        case "mode":
            return found._replace(folders=(*found.folders, (words[2], words[0], words[1])))
        case "tail":
            return found._replace(tails=(*found.tails, words[0]))
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
    """With what is told of links, addresses and the default route."""
    match word:
        case "route":
            return found._replace(gateway=_hex_address(words[0]) if words else "")
        case "adapter":
            return found._replace(links=(*found.links, Link(words[0], bool(int(words[1], 16) & _IFF_UP), words[2])))
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
