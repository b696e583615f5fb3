"""Zones of IPv6 addresses (RFC 4007 section 11): a link name after "%", which may be any text."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address
from typing import TypeVar

from dacha.core.errors import BadValue

Address = TypeVar("Address", IPv4Address, IPv6Address, IPv4Address | IPv6Address)


def without_zone(address: Address) -> Address:
    """Return the address. Raises BadValue if it has a zone: zones differ on each machine, and their text must not get
    into rules and files."""
    if isinstance(address, IPv6Address) and address.scope_id is not None:
        what = f"{str(address)!r} has a zone (the part after %); remove it"
        raise BadValue(what, f'write "{str(address).partition("%")[0]}"')
    return address
