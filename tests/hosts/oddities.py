"""Odd hosts: what somebody's machine has that others have not, as commands on the host of tests/networks/world.py.

A new oddity is one row.
"""

from __future__ import annotations

from typing import NamedTuple


class Oddity(NamedTuple):
    """`lines` are shell commands on the host; `at` are its addresses by which the LAN enters doors; `resolvers` is its
    resolv.conf (None: as it is); `usual` ones are tried with `make test`, all with `make whole`."""

    lines: tuple[str, ...] = ()
    at: tuple[str, ...] = ("192.0.2.10", "2001:db8:1::a")
    resolvers: str | None = None
    usual: bool = False


NARROW = ("ip route add 192.0.2.20 dev eth0", "ip route add 192.0.2.30 dev eth0", "ip route add 192.0.2.1 dev eth0")
# The rules that a container engine sets, and those of a firewall that lets all pass.
ENGINE = (
    "ip link add cnt0 type bridge", "ip address add 172.17.0.1/16 dev cnt0", "ip link set cnt0 up",
    "iptables -N ENGINE-USER", "iptables -A FORWARD -j ENGINE-USER", "iptables -A ENGINE-USER -j RETURN",
    "iptables -t nat -N ENGINE", "iptables -t nat -A PREROUTING -m addrtype --dst-type LOCAL -j ENGINE",
    "iptables -t nat -A POSTROUTING -s 172.17.0.0/16 ! -o cnt0 -j MASQUERADE",
    "iptables -t nat -A ENGINE ! -i cnt0 -p tcp --dport 8088 -j DNAT --to-destination 172.17.0.2:80",
    "sysctl -qw net.ipv4.ip_forward=1",
)  # fmt: skip
FRONT_END = (
    "nft add table inet front",
    "nft 'add chain inet front in { type filter hook input priority 10; policy accept; }'",
    "nft 'add chain inet front through { type filter hook forward priority 10; policy accept; }'",
    "nft 'add chain inet front early { type filter hook prerouting priority -290; policy accept; }'",
    "nft add rule inet front early meta nfproto ipv6 fib saddr . iif oif missing drop",
    "nft add rule inet front in ct state invalid drop", "nft add rule inet front through ct state invalid drop",
    "nft add table ip front_nat",
    "nft 'add chain ip front_nat out { type nat hook postrouting priority 110; policy accept; }'",
)  # fmt: skip

ODDITIES = {
    "nothing odd": Oddity(),
    "no IPv6": Oddity(
        ("sysctl -qw net.ipv6.conf.all.disable_ipv6=1", "sysctl -qw net.ipv6.conf.default.disable_ipv6=1"),
        at=("192.0.2.10",), usual=True,
    ),
    "IPv6 alone on the LAN": Oddity(("ip -4 address flush dev eth0",), at=("2001:db8:1::a",)),
    "two uplinks": Oddity((
        "ip link add up1 type bridge", "ip address add 198.18.0.5/24 dev up1", "ip link set up1 up",
        "ip route add default via 198.18.0.1 metric 300",
    )),
    "policy routing": Oddity((
        "ip rule add from 192.0.2.10 lookup 100 priority 900", "ip route add default via 192.0.2.1 table 100",
        "ip route add 192.0.2.0/24 dev eth0 table 100", "ip -6 rule add fwmark 7 lookup 100 priority 900",
    )),
    "an on-link gateway and an address for itself": Oddity((
        "ip -4 address flush dev eth0", "ip address add 192.0.2.10/32 dev eth0", *NARROW,
        "ip route add default via 192.0.2.1 dev eth0 onlink src 192.0.2.10",
    ), usual=True),
    "a /31 uplink": Oddity((
        "ip -4 address flush dev eth0", "ip address add 192.0.2.10/31 dev eth0", *NARROW,
        "ip route add default via 192.0.2.1 dev eth0",
    )),
    "a VPN's halves of everything": Oddity((
        "ip link add tun7 type bridge", "ip address add 10.8.0.6/32 dev tun7", "ip link set tun7 up",
        "ip route add 0.0.0.0/1 dev tun7", "ip route add 128.0.0.0/1 dev tun7", "ip route add 192.0.2.1 dev eth0",
    )),
    "its own resolver, with a search list": Oddity(resolvers="nameserver 127.0.0.53\nsearch example.org\n"),
    "no resolver": Oddity(resolvers=""),
    "no default route": Oddity(("ip route delete default", "ip -6 route delete default")),
    "a name of 15 characters": Oddity((
        "ip link set eth0 down", "ip link set eth0 name enp0s31f6abcdef", "ip link set enp0s31f6abcdef up",
        "ip route add default via 192.0.2.1", "ip -6 address add 2001:db8:1::a/64 dev enp0s31f6abcdef nodad",
    )),
    "two addresses, the second promoted": Oddity((
        "sysctl -qw net.ipv4.conf.eth0.promote_secondaries=1", "ip address add 192.0.2.11/24 dev eth0",
    ), at=("192.0.2.10", "192.0.2.11")),
    "two addresses, the second not promoted": Oddity((
        "sysctl -qw net.ipv4.conf.eth0.promote_secondaries=0", "ip address add 192.0.2.11/24 dev eth0",
    ), at=("192.0.2.10", "192.0.2.11")),
    "two hundred addresses": Oddity(("for n in $(seq 1 200); do ip address add 198.18.1.$n/32 dev eth0; done",)),
    "a bridge of others, with ports": Oddity((
        "ip link add br9 type bridge", "ip link add v9 type veth peer name v9p", "ip link set v9 master br9",
        "ip link set br9 up", "ip link set v9 up", "ip link set v9p up", "ip address add 10.200.0.1/24 dev br9",
    )),
    "a firewall's rules": Oddity(FRONT_END),
    "a container engine's rules": Oddity(ENGINE),
    "it forwards already": Oddity(("sysctl -qw net.ipv4.ip_forward=1", "sysctl -qw net.ipv6.conf.all.forwarding=1")),
    "answers by the same way alone": Oddity((
        "sysctl -qw net.ipv4.conf.all.rp_filter=1", "sysctl -qw net.ipv4.conf.default.rp_filter=1",
    ), usual=True),
    "its service manager's settings": Oddity((
        "sysctl -qw net.ipv4.conf.default.rp_filter=2", "sysctl -qw net.ipv4.conf.all.rp_filter=2",
        "sysctl -qw net.ipv4.conf.all.promote_secondaries=1", "sysctl -qw net.ipv4.conf.all.accept_source_route=0",
    )),
    "jumbo frames and a proxy for ARP": Oddity((
        "ip link set eth0 mtu 9000", "sysctl -qw net.ipv4.conf.eth0.proxy_arp=1",
    )),
}  # fmt: skip
