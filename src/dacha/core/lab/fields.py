"""Readers for single values of the lab file: names, texts, choices, ports.

Each takes a value from TOML and returns what it means. Raises BadValue. Those for addresses are in `address_fields`.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TypeVar

from dacha.core.errors import BadValue
from dacha.core.lab.kinds import PROTOCOLS, SERVICES
from dacha.core.lab.network import HostPorts, Ports
from dacha.core.lab.person import Entry
from dacha.core.units import whole_number

# A guest's name becomes its host name, so it is a label of RFC 1123 section 2.1 in lower case; 40
# characters leave room for "NAME.LAB.internal" in what people read and in socket paths.
_LABEL = re.compile(r"[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\Z")
_MOUNT_POINT = re.compile(r"/[A-Za-z0-9._+@/-]*[A-Za-z0-9._+@-]/?\Z")
_USER = re.compile(r"[a-z_][a-z0-9_-]{0,31}\Z")
NAME_MOST = 40
Word = TypeVar("Word", bound=str)


def name(value: object) -> str:
    """A name of a lab, guest, network or door."""
    if not isinstance(value, str):
        raise BadValue(f"{value!r} is not a name", 'write it in quotes: "gauge"')
    if len(value) > NAME_MOST:
        raise BadValue(f"the name {value[:20]}… has {len(value)} characters", f"at most {NAME_MOST} are allowed")
    if not _LABEL.match(value):
        better = re.sub(r"[^a-z0-9]+", "-", value.lower()).strip("-")
        rule = "names may contain lower-case letters, digits and hyphens; no hyphen first or last"
        raise BadValue(f"{value!r} is not a valid name", rule + (f": {better}" if better else ""))
    return value


def has_controls(value: str) -> bool:
    """True for text with control characters (C0, DEL, C1) or noncharacters, which XML does not allow (XML 1.0, 2.2)."""
    return any(ord(c) < 32 or 127 <= ord(c) < 160 or c in "\ufffe\uffff" for c in value)


def text(value: object) -> str:
    if not isinstance(value, str):
        raise BadValue(f"{value!r} is not text", "write it in quotes")
    if not value or has_controls(value):
        raise BadValue(f"{value!r} is empty or has control characters", "write plain text")
    return value


def user(value: object) -> str:
    """A user name as Linux systems accept it (useradd's rule)."""
    if not isinstance(value, str) or not _USER.match(value):
        raise BadValue(
            f"{value!r} is not a valid user name",
            "user names may contain lower-case letters, digits, _ and -; no digit first",
        )
    return value


def mount_point(value: object) -> str:
    """A mount point in a guest: an absolute path of characters that are safe in fstab."""
    if not isinstance(value, str) or not _MOUNT_POINT.match(value) or {".", ".."} & set(value.split("/")):
        raise BadValue(f"{value!r} is not a valid mount point", 'write an absolute path without spaces: "/srv/tides"')
    return value.rstrip("/")


def drive_letter(value: object) -> str:
    """A drive letter, or an absolute path, for the family that uses letters."""
    if isinstance(value, str) and re.fullmatch("[D-Zd-z]:", value):
        return value.upper()
    try:
        return mount_point(value)
    except ValueError as e:
        raise BadValue(
            f"{value!r} is not a valid drive letter", 'write a drive letter from D: to Z:, such as "T:"'
        ) from e


def flag(value: object) -> bool:
    if not isinstance(value, bool):
        raise BadValue(f"{value!r} is not true or false", "write true or false, without quotes")
    return value


def whole(low: int, high: int) -> Callable[[object], int]:
    """A reader for a whole number between `low` and `high`."""

    def read(value: object) -> int:
        if not isinstance(value, int) or isinstance(value, bool):
            raise BadValue(f"{value!r} is not a whole number", f"write a number from {low} to {high}, without quotes")
        if not low <= value <= high:
            raise BadValue(f"{value} is out of range", f"write a number from {low} to {high}")
        return value

    return read


def resolution(value: object) -> tuple[int, int]:
    """The size of a display in pixels: "1280x800"."""
    match = re.fullmatch(r"\s*(\d{3,4})\s*x\s*(\d{3,4})\s*", value) if isinstance(value, str) else None
    if not match:
        raise BadValue(f"{value!r} is not a resolution", 'write width and height in pixels: "1280x800"')
    return int(match[1]), int(match[2])


def machine_type(value: object) -> str:
    """A version of QEMU's board: "pc-q35-7.2", or "newest"."""
    if isinstance(value, str) and re.fullmatch(r"newest|pc-q35-\d+(\.\d+)+", value):
        return value
    raise BadValue(f"{value!r} is not a machine type", 'write "newest", or a version of q35 such as "pc-q35-7.2"')


def choice(*known: Word) -> Callable[[object], Word]:
    """A reader that accepts one of the `known` words."""

    def read(value: object) -> Word:
        for word in known:
            if word == value:
                return word
        from dacha.core.spelling import nearest

        close = nearest(str(value), known)
        hint = f"did you mean {close}? " if close else ""
        raise BadValue(f"unknown value {value!r}", f"{hint}one of: {', '.join(known)}")

    return read


def ports(value: object) -> Ports:
    """One port (22) or a range ("5000-5010")."""
    if isinstance(value, int) and not isinstance(value, bool):
        first = last = value
    else:
        match = re.fullmatch(r"\s*(\d{1,6})\s*(?:-\s*(\d{1,6})\s*)?", value) if isinstance(value, str) else None
        if not match:
            raise BadValue(f"{value!r} is not a port", 'write 22, or a range "5000-5010"')
        first, last = int(match[1]), int(match[2] or match[1])
    for number in (first, last):
        if not 1 <= number <= 65535:
            raise BadValue(f"{number} is not a port", "ports are 1 to 65535")
    if first > last:
        raise BadValue(
            f"the range {first}-{last} is reversed: its first value is larger than its last", f'write "{last}-{first}"'
        )
    return Ports(first, last)


def host_ports(value: object) -> HostPorts:
    """Services of this host that guests may use: a service ("http"), "tcp 3128", "udp 5000-5010", or "all"."""
    words = value.split() if isinstance(value, str) else []
    if words == ["all"]:
        return HostPorts("all", Ports(1, 65535))
    if len(words) == 1 and words[0] in SERVICES:
        return HostPorts("tcp", Ports(SERVICES[words[0]], SERVICES[words[0]]))
    if len(words) == 2 and words[0] in PROTOCOLS:
        number = whole_number(words[1])
        return HostPorts(words[0], ports(words[1] if number is None else number))
    raise BadValue(f"{value!r} is not a service of this host", 'write "tcp 3128", "udp 514", "http", or "all"')


def entry(value: object) -> Entry:
    """What a person may enter: a guest ("gauge"), or one of its doors ("charts rdp")."""
    words = value.split() if isinstance(value, str) else []
    if not 1 <= len(words) <= 2:
        raise BadValue(
            f"{value!r} names neither a guest nor a door",
            'write the name of a guest ("gauge"), or of a guest and one of its doors ("charts rdp")',
        )
    return Entry(name(words[0]), name(words[1]) if words[1:] else None)


_PRODUCT_KEY = re.compile(r"([A-Z0-9]{5}-){4}[A-Z0-9]{5}\Z")


def product_key(value: object) -> str:
    """Five groups of five letters and digits, as printed on licences of Windows."""
    if not isinstance(value, str) or not _PRODUCT_KEY.match(value.upper()):
        raise BadValue("it is not a product key", 'write it as "XXXXX-XXXXX-XXXXX-XXXXX-XXXXX"')
    return value.upper()
