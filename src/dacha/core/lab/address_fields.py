"""Readers for addresses, subnets and hardware addresses of the lab file.

Each takes a value from TOML and returns what it means. Raises BadValue.
"""

from __future__ import annotations

import re
from ipaddress import (
    AddressValueError,
    IPv4Address,
    IPv4Network,
    IPv6Address,
    IPv6Network,
    NetmaskValueError,
    ip_address,
)

from dacha.core.errors import BadValue
from dacha.core.units import whole_number
from dacha.core.zone import without_zone

# A mask as some systems show it.
_HEX = re.compile(r"0x[0-9a-fA-F]{8}\Z")
_HARDWARE = re.compile(r"[0-9a-f]{2}(?::[0-9a-f]{2}){5}\Z")


def address4(value: object) -> IPv4Address:
    if not isinstance(value, str):
        raise BadValue(f"{value!r} is not an address", 'write it in quotes: "10.77.4.20"')
    try:
        return IPv4Address(value.strip())
    except AddressValueError:
        raise BadValue(f"{value!r} is not an IPv4 address", 'write four numbers from 0 to 255: "10.77.4.20"') from None


def address4_or_none(value: object) -> str:
    """An IPv4 address, or the word none."""
    return "none" if value == "none" else str(address4(value))


def address6(value: object) -> IPv6Address:
    try:
        return without_zone(IPv6Address(value.strip() if isinstance(value, str) else ""))
    except AddressValueError:
        raise BadValue(f"{value!r} is not an IPv6 address", 'write it as "fd77:4::20"') from None


def address(value: object) -> IPv4Address | IPv6Address:
    try:
        found = ip_address(value.strip() if isinstance(value, str) else "")
    except ValueError:
        raise BadValue(f"{value!r} is not an address", 'write it in quotes: "10.77.4.1"') from None
    return without_zone(found)


def _parts(value: object) -> tuple[object, str]:
    """Split a value into the address and the prefix length or mask after a slash or a space; that is "" if absent."""
    if not isinstance(value, str):
        return value, ""
    bare, slash, mask = value.strip().partition("/")
    if not slash:
        bare, _, mask = bare.partition(" ")
    return bare, mask.strip() or ("/" if slash else "")


def interface4(value: object) -> tuple[IPv4Address, int | None]:
    """An address alone, or with prefix length or mask: 10.77.4.20, 10.77.4.20/24, 10.77.4.20/255.255.255.0."""
    bare, mask = _parts(value)
    return address4(bare), prefix_length(mask) if mask else None


def interface4_or_dynamic(value: object) -> tuple[IPv4Address | None, int | None]:
    """The same, or the word dynamic: an address assigned by the network's server (then both are None)."""
    return (None, None) if value == "dynamic" else interface4(value)


def interface6(value: object) -> tuple[IPv6Address, int | None]:
    bare, slash, mask = value.partition("/") if isinstance(value, str) else (value, "", "")
    length = whole_number(mask.strip())
    if slash and (length is None or not 1 <= length <= 128):
        raise BadValue(f"{mask!r} is not an IPv6 prefix length", "write a number from 1 to 128: /64")
    return address6(bare), length


def prefix_length(mask: str) -> int:
    """The IPv4 prefix length from "24", "255.255.255.0" or "0xffffff00"."""
    mask = mask.strip()
    length = whole_number(mask)
    if length is not None:
        if length <= 32:
            return length
    else:
        try:
            # IPv4Network also accepts host masks (0.0.0.255), which are a mistake here.
            number = int(mask, 16) if _HEX.match(mask) else int(IPv4Address(mask))
            inverted = number ^ 0xFFFFFFFF
            if not inverted & (inverted + 1):
                return 32 - inverted.bit_length()
        except (AddressValueError, NetmaskValueError):
            pass
    raise BadValue(f"{mask!r} is not a prefix length or mask", "write /24 or /255.255.255.0")


def subnet4(value: object) -> IPv4Network:
    """A subnet with prefix length or mask. Host bits that are set are refused: one of the two is a mistake."""
    bare, mask = _parts(value)
    if not mask:
        raise BadValue(f"{value!r} is not a subnet", 'write address and prefix length: "10.77.4.0/24"')
    net = IPv4Network((address4(bare), prefix_length(mask)), strict=False)
    if net.network_address != address4(bare):
        raise BadValue(f"{value} is the address of a host, not of a subnet", f'the subnet that contains it is "{net}"')
    return net


def subnet6(value: object) -> IPv6Network:
    bare, prefix = interface6(value)
    if prefix is None:
        raise BadValue(f"{value!r} is not a subnet", 'write address and prefix length: "fd77:4::/64"')
    net = IPv6Network((bare, prefix), strict=False)
    if net.network_address != bare:
        raise BadValue(f"{value} is the address of a host, not of a subnet", f'the subnet that contains it is "{net}"')
    return net


def source(value: object) -> IPv4Network | IPv6Network:
    """A source that a door allows: an address or a subnet."""
    six = isinstance(value, str) and ":" in value
    if isinstance(value, str) and not _parts(value)[1]:
        return IPv6Network(address6(value)) if six else IPv4Network(address4(value))
    return subnet6(value) if six else subnet4(value)


def show_source(admitted: IPv4Network | IPv6Network) -> str:
    """A source as text: a single address without prefix length."""
    return str(admitted.network_address) if admitted.num_addresses == 1 else str(admitted)


def span4(value: object) -> tuple[IPv4Address, IPv4Address]:
    """A closed range of addresses: "10.77.4.100-10.77.4.199"."""
    first, dash, last = value.partition("-") if isinstance(value, str) else ("", "", "")
    if not dash:
        raise BadValue(f"{value!r} is not a range", 'write "10.77.4.100-10.77.4.199"')
    low, high = address4(first), address4(last)
    if low > high:
        raise BadValue(
            f"the range {low}-{high} is reversed: its first value is larger than its last", f'write "{high}-{low}"'
        )
    return low, high


def hardware_address(value: object) -> str:
    """A unicast Ethernet address in lower case with colons."""
    plain = value.strip().lower().replace("-", ":") if isinstance(value, str) else ""
    if not _HARDWARE.match(plain):
        raise BadValue(f"{value!r} is not a hardware address", 'write six pairs: "02:1a:2b:3c:4d:5e"')
    if int(plain[:2], 16) & 1:
        raise BadValue(
            f"{plain} is a multicast address", "the first pair must be even; remove it, and Dacha generates one"
        )
    return plain
