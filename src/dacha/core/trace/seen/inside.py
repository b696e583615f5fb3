"""What a guest reports about itself: listening programs, accounts, links, disk.

A guest may lie: its reports name causes, and never make a hop fine or broken.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple
from dacha.core.trace.seen.own_rules import NFT, SAVED, read_rules
from dacha.core.trace.seen.reported import SERVERS, Link, Listener, Process, Unit
from dacha.core.trace.seen.ways import Entry, Reply, Way, read_entry, read_reply, read_way
from dacha.core.units import whole_number

# linux/if.h: an adapter's flags.
_IFF_UP, _IFF_NOARP = 0x01, 0x80
# Limits for answers: lines, and the length of each, because a guest may send anything.
LINES, LONGEST = 400, 300


class Inside(NamedTuple):
    """The guest's reports. `starts` are the ports of systemd's own sockets with the service of each. `ways` are its
    routes, `policies` its own policy rules (ip-rule(8)), `replies` the routes that these give to its replies,
    `neighbours` its neighbour entries. `managed` means that systemd manages its services: `units` are those of the
    door's service, `failing` any that failed. `shell` is the user's, None for a missing user; `shell_there` whether it
    exists; `no_home` its home directory if that does not exist; `not_file` its key file if that is none; `keys` the
    number of lines in the user's key file, None without a file, and `tails` the final characters of each key, `limits`
    the options of those that have any; `mode` that file's bits and owner; `folders` those above it (path, bits, owner);
    `mark` the first character of the password hash ("!" is a locked account), `expires` the day (since 1970) when the
    account expires, `must` whether its password must be changed; `closed` the text of /etc/nologin; `rules` the guest's
    firewall (nft's JSON form); `settings` of its SSH server for the user (sshd -T), who is in `groups`, and the
    `algorithms` that it accepts for keys; `log` its server's last message about a refusal; `clock` the guest's (Unix
    seconds); `gateway` its default gateway ("" for none, None if not reported); `at_screen` the users logged in at its
    local screen; `raises` how who was asked runs commands as root ("root": is root, "sudo", "doas", "none"). `denies`
    are the services that may not use some addresses (each with IPAddressDeny and IPAddressAllow,
    systemd.resource-control(5)), `running` the processes of the user, `shaped` its own traffic control ("KIND on
    LINK"). `told` are the complete pieces (`questions`): only for those, a missing answer means "no"."""

    listeners: tuple[Listener, ...] = ()
    starts: tuple[tuple[int, str], ...] = ()
    managed: bool = False
    units: tuple[Unit, ...] = ()
    failing: tuple[Unit, ...] = ()
    links: tuple[Link, ...] = ()
    gateway: str | None = None
    ways: tuple[Way, ...] = ()
    policies: tuple[str, ...] = ()
    replies: tuple[Reply, ...] = ()
    neighbours: tuple[Entry, ...] = ()
    shell: str | None = None
    shell_there: bool = True
    no_home: str = ""
    not_file: str = ""
    keys: int | None = None
    tails: tuple[str, ...] = ()
    limits: tuple[tuple[str, str], ...] = ()
    mode: str = ""
    folders: tuple[tuple[str, str, str], ...] = ()
    mark: str = ""
    expires: int | None = None
    must: bool = False
    clock: int = 0
    closed: str | None = None
    disk: int | None = None
    rules: Mapping[str, Any] | None = None
    settings: tuple[tuple[str, str], ...] = ()
    groups: tuple[str, ...] | None = None
    algorithms: tuple[str, ...] = ()
    log: str = ""
    at_screen: tuple[str, ...] = ()
    raises: str = ""
    denies: tuple[tuple[str, str, str], ...] = ()
    shaped: tuple[str, ...] = ()
    running: tuple[Process, ...] = ()
    told: frozenset[str] = frozenset()

    def knows(self, piece: str) -> bool:
        """True if the guest answered a piece completely: whatever is missing from it does not exist."""
        return piece in self.told

    @property
    def today(self) -> int:
        """The guest's day, since 1970."""
        return self.clock // 86400

    def link_of(self, hardware: str) -> Link | None:
        """The link with this hardware address. A bridge or a bond has that of its adapter: the one with addresses."""
        same = [x for x in self.links if x.hardware.lower() == hardware.lower()]
        return next((x for x in same if x.addresses), same[0] if same else None)


def read_inside(text: str, found: Inside | None = None) -> Inside | None:
    """The reports, added to those `found` before; None if no piece is complete. Malformed lines are ignored."""
    whole = text.splitlines()
    rules = [line for line in whole if line.startswith((NFT, SAVED))]
    lines = [harmless(line)[:LONGEST].strip() for line in [x for x in whole if not x.startswith((NFT, SAVED))][:LINES]]
    if not any(line.startswith("told ") for line in lines):
        return found
    found = found or Inside()
    if rules:
        found = found._replace(rules=read_rules(rules))
    for line in lines:
        word, _, rest = line.partition(" ")
        try:
            found = _with(found, word, rest)
        except (ValueError, IndexError):
            continue
    return found


def _hex_address(digits: str) -> str:
    """An IPv4 address in the kernel's form: in host byte order (proc(5)). Raises ValueError."""
    octets = bytes.fromhex(digits)[::-1]
    if len(octets) != 4:
        raise ValueError(digits)
    return ".".join(map(str, octets))


def _socket(text: str) -> Listener:
    """A listening socket in the kernel's form: address and port in hexadecimal, the address in words of four bytes in
    host byte order (proc(5)). Raises ValueError."""
    digits, _, port = text.partition(":")
    if len(digits) == 32:
        known = {"0" * 32: "::", "0" * 24 + "01000000": "::1"}
        return Listener(known.get(digits, "::ffff"), int(port, 16), "")
    return Listener(_hex_address(digits), int(port[:4], 16), "")


def _number(text: str) -> int:
    """A decimal number. Raises ValueError."""
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
            starts = dict(found.starts).get(_number(port), "") if program == "systemd" else ""
            listener = Listener(address.strip("[]").partition("%")[0], _number(port), program, number, starts=starts)
            return found._replace(listeners=(*found.listeners, listener))
        case "starts":
            return found._replace(starts=(*found.starts, (_number(words[0]), words[1])))
        case "process":
            number = _number(words[0])
            listeners = tuple(x._replace(state=words[1][:1]) if x.pid == number else x for x in found.listeners)
            return found._replace(listeners=listeners)
        case "socket":
            listener = _socket(words[0])
            # A socket for both protocols is shown as *, like ss does.
            shown = listener._replace(address="*") if listener.address == "::" else listener
            return found._replace(listeners=(*found.listeners, shown))
        case "told":
            return found._replace(told=found.told | {words[0]})
        case "raises":
            return found._replace(raises=words[0].rpartition("/")[2])
        case "managed":
            return found._replace(managed=True)
        case "unit":
            return found._replace(units=(*found.units, Unit(words[0], words[1], " ".join(words[2:]))))
        case "failed":
            return found._replace(failing=(*found.failing, Unit(words[0], "failed", " ".join(words[1:]))))
        case "clock":
            return found._replace(clock=_number(rest))
        case "disk":
            return found._replace(disk=_number(rest.rstrip("%")))
        case "set":
            return found._replace(settings=(*found.settings, (words[0], " ".join(words[1:]))))
        case "screen":
            return found._replace(at_screen=(*found.at_screen, words[0]))
        case "denies":
            deny, _, allow = rest.partition(" ")[2].partition("/ ")
            return found._replace(denies=(*found.denies, (words[0], deny.strip(), allow.strip())))
        case "shaped":
            return found._replace(shaped=(*found.shaped, " ".join(words[:3])))
        case "running":
            process = Process(_number(words[0]), _number(words[1]), rest.split(None, 2)[2])
            return found._replace(running=(*found.running, process))
        case "log":
            return found._replace(log=rest)
        case "mild":
            return found._replace(log=found.log or rest)
        case _:
            return _with_account(found, word, words, rest)


def _with_account(found: Inside, word: str, words: list[str], rest: str) -> Inside:
    """Add what is reported about an account: its shell, password, key file and groups."""
    match word:
        case "key-lines":
            return found._replace(keys=_number(words[0]))
        case "mode" if words[2].endswith("/authorized_keys"):
            return found._replace(mode=" ".join(words[:2]))
        case "mode":
            return found._replace(folders=(*found.folders, (words[2], words[0], words[1])))
        case "tail":
            return found._replace(tails=(*found.tails, words[0]))
        case "limits":
            return found._replace(limits=(*found.limits, (words[0], " ".join(words[1:]))))
        case "algorithm":
            return found._replace(algorithms=(*found.algorithms, words[0]))
        case "groups":
            return found._replace(groups=tuple(words))
        case "shadow":
            return found._replace(mark=words[0][0], expires=_number(words[1]) if len(words) > 1 else None)
        case "must":
            return found._replace(must=True)
        case "shell":
            return found._replace(shell=rest)
        case "noshell":
            return found._replace(shell_there=False)
        case "nohome":
            return found._replace(no_home=rest)
        case "notfile":
            return found._replace(not_file=rest)
        case "closed":
            return found._replace(closed=rest)
        case _:
            return _with_link(found, word, words)


def _with_link(found: Inside, word: str, words: list[str]) -> Inside:
    """Add what is reported about links, addresses and the default route."""
    match word:
        case "route":
            return found._replace(gateway=_hex_address(words[0]) if words else "")
        case "adapter":
            mtu = _number(words[3]) if len(words) > 3 else 0
            flags = int(words[1], 16)
            link = Link(words[0], bool(flags & _IFF_UP), words[2], mtu=mtu, by_arp=not flags & _IFF_NOARP)
            return found._replace(links=(*found.links, link))
        case "way":
            return found._replace(ways=(*found.ways, read_way(" ".join(words))))
        case "policy":
            return found._replace(policies=(*found.policies, " ".join(words)))
        case "reply":
            return found._replace(replies=(*found.replies, read_reply(words)))
        case "arp":
            return found._replace(neighbours=(*found.neighbours, read_entry(words)))
        case "inet":
            links = tuple(
                x._replace(addresses=(*x.addresses, words[3])) if x.name == words[1] else x for x in found.links
            )
            return found._replace(links=links)
        case _:
            return found


def others_write(bits: str) -> bool:
    """True for permission bits (octal) that let the group or everybody write."""
    return any(bit in "2367" for bit in bits[-2:])


def other_ports(inside: Inside | None, service: str) -> tuple[int, ...]:
    """Ports that servers of this service listen on in the guest, except on loopback."""
    if inside is None:
        return ()
    serving = (
        x for x in inside.listeners if x.program and service in SERVERS and x.is_for(service) and not x.on_loopback
    )
    return tuple(sorted({x.port for x in serving}))
