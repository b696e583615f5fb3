"""Readers for single values of the lab file: names, addresses, ports, hardware addresses.

Like those in `units`, each takes the value found and returns its meaning or raises ValueError with
(what, remedy).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from ipaddress import (
    AddressValueError,
    IPv4Address,
    IPv4Network,
    IPv6Address,
    IPv6Network,
    NetmaskValueError,
    ip_address,
)

from dacha.core.lab.model import PROTOCOLS, SERVICES
from dacha.core.lab.network import HostPorts, Ports
from dacha.core.lab.person import Entry
from dacha.core.units import whole_number
from dacha.core.zone import without_zone

# A guest's name becomes its host name, so it is a label of RFC 1123 section 2.1 in lower case; 40
# characters leave room for "NAME.LAB.internal" in what people read and in socket paths.
_LABEL = re.compile(r"[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\Z")
_HARDWARE = re.compile(r"[0-9a-f]{2}(?::[0-9a-f]{2}){5}\Z")
_MOUNT_POINT = re.compile(r"/[A-Za-z0-9._+@/-]*[A-Za-z0-9._+@-]/?\Z")
_USER = re.compile(r"[a-z_][a-z0-9_-]{0,31}\Z")
NAME_MOST = 40


def name(value: object) -> str:
    """A name of a lab, guest, network or door."""
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not a name", 'write it in quotes: "gauge"')
    if len(value) > NAME_MOST:
        raise ValueError(f"the name {value[:20]}… has {len(value)} characters", f"at most {NAME_MOST} are allowed")
    if not _LABEL.match(value):
        better = re.sub(r"[^a-z0-9]+", "-", value.lower()).strip("-")
        rule = "a name has lower-case letters, digits and dashes, no dash first or last"
        raise ValueError(f"{value!r} cannot be a name", rule + (f": {better}" if better else ""))
    return value


def has_controls(value: str) -> bool:
    """True for text with control characters (C0, DEL, C1) or noncharacters, which no XML has (XML 1.0, 2.2)."""
    return any(ord(c) < 32 or 127 <= ord(c) < 160 or c in "\ufffe\uffff" for c in value)


def text(value: object) -> str:
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not text", "write it in quotes")
    if not value or has_controls(value):
        raise ValueError(f"{value!r} is empty or has control characters", "write plain text")
    return value


def user(value: object) -> str:
    """A user name as Linux systems accept it (useradd's rule)."""
    if not isinstance(value, str) or not _USER.match(value):
        raise ValueError(f"{value!r} cannot be a user name", "lower-case letters, digits, _ and -, not a digit first")
    return value


def mount_point(value: object) -> str:
    """Where a folder is mounted in a guest: a whole path, in letters that every table of file systems takes."""
    if not isinstance(value, str) or not _MOUNT_POINT.match(value) or {".", ".."} & set(value.split("/")):
        raise ValueError(f"{value!r} is no place to mount at", 'write a whole path without blanks: "/srv/tides"')
    return value.rstrip("/")


def drive_letter(value: object) -> str:
    """Where a folder is mounted in a guest of the one family that gives letters; a whole path is taken too."""
    if isinstance(value, str) and re.fullmatch("[D-Zd-z]:", value):
        return value.upper()
    try:
        return mount_point(value)
    except ValueError as e:
        raise ValueError(f"{value!r} is no letter to mount at", 'write a letter from D: to Z: : "T:"') from e


def flag(value: object) -> bool:
    if not isinstance(value, bool):
        raise ValueError(f"{value!r} is not true or false", "write true or false, without quotes")
    return value


def whole(low: int, high: int) -> Callable[[object], int]:
    """A reader for a whole number between `low` and `high`."""

    def read(value: object) -> int:
        if not isinstance(value, int) or isinstance(value, bool):
            raise ValueError(f"{value!r} is not a whole number", f"write a number from {low} to {high}, without quotes")
        if not low <= value <= high:
            raise ValueError(f"{value} is out of range", f"write a number from {low} to {high}")
        return value

    return read


def resolution(value: object) -> tuple[int, int]:
    """The size of a display in dots: "1280x800"."""
    match = re.fullmatch(r"\s*(\d{3,4})\s*x\s*(\d{3,4})\s*", value) if isinstance(value, str) else None
    if not match:
        raise ValueError(f"{value!r} is no resolution", 'write width and height in dots: "1280x800"')
    return int(match[1]), int(match[2])


def choice(*known: str) -> Callable[[object], str]:
    """A reader for one of some words."""

    def read(value: object) -> str:
        if value not in known or not isinstance(value, str):
            from dacha.core.spelling import nearest

            close = nearest(str(value), known)
            hint = f"did you mean {close}? " if close else ""
            raise ValueError(f"{value!r} is not known here", f"{hint}one of: {', '.join(known)}")
        return value

    return read


def ports(value: object) -> Ports:
    """One port (22) or a range ("5000-5010")."""
    if isinstance(value, int) and not isinstance(value, bool):
        first = last = value
    else:
        match = re.fullmatch(r"\s*(\d{1,6})\s*(?:-\s*(\d{1,6})\s*)?", value) if isinstance(value, str) else None
        if not match:
            raise ValueError(f"{value!r} is not a port", 'write 22, or a range "5000-5010"')
        first, last = int(match[1]), int(match[2] or match[1])
    for number in (first, last):
        if not 1 <= number <= 65535:
            raise ValueError(f"{number} is not a port", "ports are 1 to 65535")
    if first > last:
        raise ValueError(f"the range {first}-{last} runs backwards", f'write "{last}-{first}"')
    return Ports(first, last)


def host_ports(value: object) -> HostPorts:
    """What guests may use of this host: a service ("http"), "tcp 3128", "udp 5000-5010", or "all"."""
    words = value.split() if isinstance(value, str) else []
    if words == ["all"]:
        return HostPorts("all", Ports(1, 65535))
    if len(words) == 1 and words[0] in SERVICES:
        return HostPorts("tcp", Ports(SERVICES[words[0]], SERVICES[words[0]]))
    if len(words) == 2 and words[0] in PROTOCOLS:
        number = whole_number(words[1])
        return HostPorts(words[0], ports(words[1] if number is None else number))
    raise ValueError(f"{value!r} is no service of this host", 'write "tcp 3128", "udp 514", "http", or "all"')


def entry(value: object) -> Entry:
    """What somebody may enter: a guest ("gauge"), or one door of it ("charts rdp")."""
    words = value.split() if isinstance(value, str) else []
    if not 1 <= len(words) <= 2:
        raise ValueError(f"{value!r} is nothing to enter", 'write a guest, "gauge", or one door of it, "charts rdp"')
    return Entry(name(words[0]), name(words[1]) if words[1:] else None)


def address4(value: object) -> IPv4Address:
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not an address", 'write it in quotes: "10.77.4.20"')
    try:
        return IPv4Address(value.strip())
    except AddressValueError:
        raise ValueError(
            f"{value!r} is not an IPv4 address", 'write four numbers from 0 to 255: "10.77.4.20"'
        ) from None


def address4_or_none(value: object) -> str:
    """An IPv4 address, or the word none."""
    return "none" if value == "none" else str(address4(value))


def address6(value: object) -> IPv6Address:
    try:
        return without_zone(IPv6Address(value.strip() if isinstance(value, str) else ""))
    except AddressValueError:
        raise ValueError(f"{value!r} is not an IPv6 address", 'write it as "fd77:4::20"') from None


def address(value: object) -> IPv4Address | IPv6Address:
    try:
        found = ip_address(value.strip() if isinstance(value, str) else "")
    except ValueError:
        raise ValueError(f"{value!r} is not an address", 'write it in quotes: "10.77.4.1"') from None
    return without_zone(found)


def interface4(value: object) -> tuple[IPv4Address, int | None]:
    """An address alone, or with prefix length or mask: 10.77.4.20, 10.77.4.20/24, 10.77.4.20/255.255.255.0."""
    bare, slash, mask = value.partition("/") if isinstance(value, str) else (value, "", "")
    return address4(bare), prefix_length(mask) if slash else None


def interface4_or_dynamic(value: object) -> tuple[IPv4Address | None, int | None]:
    """The same, or the word dynamic: whoever serves the network hands an address out (then both are None)."""
    return (None, None) if value == "dynamic" else interface4(value)


def interface6(value: object) -> tuple[IPv6Address, int | None]:
    bare, slash, mask = value.partition("/") if isinstance(value, str) else (value, "", "")
    length = whole_number(mask.strip())
    if slash and (length is None or not 1 <= length <= 128):
        raise ValueError(f"{mask!r} is not an IPv6 prefix length", "write a number from 1 to 128: /64")
    return address6(bare), length


def prefix_length(mask: str) -> int:
    """The IPv4 prefix length from "24" or "255.255.255.0"."""
    mask = mask.strip()
    length = whole_number(mask)
    if length is not None:
        if length <= 32:
            return length
    else:
        try:
            # IPv4Network also reads host masks (0.0.0.255), which nobody means here.
            number = int(IPv4Address(mask))
            inverted = number ^ 0xFFFFFFFF
            if not inverted & (inverted + 1):
                return 32 - inverted.bit_length()
        except (AddressValueError, NetmaskValueError):
            pass
    raise ValueError(f"{mask!r} is not a prefix length or mask", "write /24 or /255.255.255.0")


def subnet4(value: object) -> IPv4Network:
    """A subnet with prefix length or mask; bits behind the prefix are refused, because one of the two is a slip."""
    bare, slash, mask = value.partition("/") if isinstance(value, str) else ("", "", "")
    if not slash:
        raise ValueError(f"{value!r} is not a subnet", 'write address and prefix length: "10.77.4.0/24"')
    net = IPv4Network((address4(bare), prefix_length(mask)), strict=False)
    if net.network_address != address4(bare):
        raise ValueError(f"{value} names a host, not a subnet", f'the subnet it lies in is "{net}"')
    return net


def subnet6(value: object) -> IPv6Network:
    bare, prefix = interface6(value)
    if prefix is None:
        raise ValueError(f"{value!r} is not a subnet", 'write address and prefix length: "fd77:4::/64"')
    net = IPv6Network((bare, prefix), strict=False)
    if net.network_address != bare:
        raise ValueError(f"{value} names a host, not a subnet", f'the subnet it lies in is "{net}"')
    return net


def source(value: object) -> IPv4Network | IPv6Network:
    """Whom a door admits: one address or a subnet."""
    six = isinstance(value, str) and ":" in value
    if isinstance(value, str) and "/" not in value:
        return IPv6Network(address6(value)) if six else IPv4Network(address4(value))
    return subnet6(value) if six else subnet4(value)


def show_source(admitted: IPv4Network | IPv6Network) -> str:
    """Whom a door admits, as people write it: one machine without a prefix length."""
    return str(admitted.network_address) if admitted.num_addresses == 1 else str(admitted)


def span4(value: object) -> tuple[IPv4Address, IPv4Address]:
    """A closed range of addresses: "10.77.4.100-10.77.4.199"."""
    first, dash, last = value.partition("-") if isinstance(value, str) else ("", "", "")
    if not dash:
        raise ValueError(f"{value!r} is not a range", 'write "10.77.4.100-10.77.4.199"')
    low, high = address4(first), address4(last)
    if low > high:
        raise ValueError(f"the range {low}-{high} runs backwards", f'write "{high}-{low}"')
    return low, high


def hardware_address(value: object) -> str:
    """A unicast Ethernet address in lower case with colons."""
    plain = value.strip().lower().replace("-", ":") if isinstance(value, str) else ""
    if not _HARDWARE.match(plain):
        raise ValueError(f"{value!r} is not a hardware address", 'write six pairs: "02:1a:2b:3c:4d:5e"')
    if int(plain[:2], 16) & 1:
        raise ValueError(f"{plain} is a group address", "the first pair must be even; leave it out to have one made")
    return plain
