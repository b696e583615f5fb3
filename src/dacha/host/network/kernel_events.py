"""Sockets for kernel notifications about changes of rules or links, in this network namespace (netlink(7))."""

from __future__ import annotations

import socket

NETLINK_NETFILTER = 12
_SOL_NETLINK, _ADD_MEMBERSHIP = 270, 1
_NFNLGRP_NFTABLES = 7
# RTNLGRP_LINK, TC, IPV4_IFADDR, IPV4_RULE, IPV6_IFADDR, IPV6_RULE, IPV4_NETCONF, IPV6_NETCONF: links, their filters and
# addresses, policy rules, forwarding.
_RTNLGRPS = (1, 4, 5, 8, 9, 19, 24, 25)
# A flood of changes loses messages, which the socket then reports (ENOBUFS): the size of its buffer in bytes.
_BYTES = 1 << 20


def rules_socket() -> socket.socket:
    """Reports every change of nftables. Raises OSError."""
    return _listening(NETLINK_NETFILTER, (_NFNLGRP_NFTABLES,))


def links_socket() -> socket.socket:
    """Reports every change of links, their filters and addresses, and forwarding. Raises OSError."""
    return _listening(socket.NETLINK_ROUTE, _RTNLGRPS)


def _listening(protocol: int, groups: tuple[int, ...]) -> socket.socket:
    s = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_NONBLOCK, protocol)
    try:
        s.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BYTES)
        s.bind((0, 0))
        for group in groups:
            s.setsockopt(_SOL_NETLINK, _ADD_MEMBERSHIP, group)
    except BaseException:
        s.close()
        raise
    return s
