"""The socket for names on the LAN."""

from __future__ import annotations

import contextlib
import socket
import struct
from ipaddress import IPv4Address

from dacha.wire.dns.multicast import GROUP, PORT

_IP_MULTICAST_ALL = 49  # linux/in.h


def multicast_names(interface: str, address: IPv4Address) -> socket.socket:
    """A socket for multicast DNS on a link of this host, beside those of other programs (RFC 6762 section 15.1).
    Raises OSError."""
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK)
    with contextlib.ExitStack() as opening:
        opening.enter_context(s)
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        link = struct.pack("=4s4si", GROUP.packed, address.packed, socket.if_nametoindex(interface))
        s.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, link)
        s.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, link)
        # Nothing of groups that other programs have joined on other links.
        s.setsockopt(socket.IPPROTO_IP, _IP_MULTICAST_ALL, 0)
        # Section 11: everything is sent with this number of hops.
        s.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 255)
        s.setsockopt(socket.IPPROTO_IP, socket.IP_TTL, 255)
        s.bind((str(GROUP), PORT))
        opening.pop_all()
    return s
