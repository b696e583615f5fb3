"""The path to a service: every hop in its order, what it examines, which paths it belongs to, and its judge.

To add a hop: its row here, its judge in the module of its part, and its fields in a record of `evidence`. They are
gathered in `engine/trace`. It also needs a row in docs/trace.md and a fault in tests/faults/faults.toml.
"""

from __future__ import annotations

from collections.abc import Callable

from dacha.core.named import NamedTuple
from dacha.core.trace import beyond, guest, host, login, router, service, there
from dacha.core.trace.hop import Hop
from dacha.core.trace.seen.evidence import Evidence


class HopKind(NamedTuple):
    """A hop of the path: its stable `name`, its name for people (`shown`), what it examines, whether it is `on` a path,
    and its judge. A judge returns None if the hop does not apply."""

    name: str
    shown: str
    asks: str
    on: Callable[[Evidence], bool]
    judge: Callable[[Evidence], Hop | None]


def every(e: Evidence) -> bool:
    return True


def user(e: Evidence) -> bool:
    """A door that the guest's QEMU holds open."""
    return e.way == "user"


def network(e: Evidence) -> bool:
    """A guest on a network of this host: a kernel network or a bridged LAN."""
    return e.way != "user"


def kernel(e: Evidence) -> bool:
    """A door that the kernel's rules forward."""
    return e.way == "kernel"


def lan(e: Evidence) -> bool:
    """From the LAN or beyond, to an address of this host."""
    return e.origin != "host" and e.way != "own"


def above(e: Evidence) -> bool:
    """From outside, through the router."""
    return e.origin == "outside"


def asked_there(e: Evidence) -> bool:
    """If the user named another machine to test from."""
    return e.there is not None


WAY = (
    HopKind(
        "lab-file",
        "lab file",
        "the lab file; for a guest that is off, also whether this host supports its network",
        every,
        guest.lab_file,
    ),
    HopKind("applied", "applied", "whether the door's settings are applied", every, guest.applied),
    HopKind("guest", "guest", "its QEMU process and monitor", every, guest.guest),
    HopKind("boot", "boot", "last console output, guest agent, its traffic, contents of its disks", every, guest.boot),
    HopKind("adapter", "adapter", "its tap or macvtap, and the bridge", network, guest.adapter),
    HopKind("rules", "rules", "the lab's firewall rules, and the filters of its links", network, host.rules),
    HopKind(
        "address",
        "address",
        "the address in use (lease, ARP, neighbour discovery, agent) against the planned one",
        network,
        guest.address,
    ),
    HopKind("neighbour", "link", "which machine answers ARP for the address", network, guest.neighbour),
    HopKind("route", "route", "where this host sends packets for it", network, guest.route),
    HopKind("forward", "forward", "user mode: whether QEMU has the host port open", user, service.forward),
    HopKind(
        "inside", "inside", "why the guest itself could not be queried, if that would show more", every, guest.inside
    ),
    HopKind(
        "service",
        "service",
        "the guest's port: open, refused, rejected by a firewall, or silent",
        every,
        service.service,
    ),
    HopKind(
        "protocol",
        "protocol",
        "whether it speaks the expected protocol: SSH, RDP, RFB, HTTP, TLS",
        every,
        service.protocol,
    ),
    HopKind("security", "security", "warning: traffic that crosses the network unencrypted", every, service.security),
    HopKind("key", "host key", "the SSH host key against the one that Dacha created", every, service.key),
    HopKind(
        "login",
        "login",
        "whether the lab file's user can log in with the lab file's key; by remote desktop: --user, with a password",
        every,
        login.login,
    ),
    HopKind("certificate", "certificate", "warning: the TLS certificate", every, service.certificate),
    HopKind("size", "packet size", "whether packets of the connection's full size pass", every, beyond.size),
    HopKind("reply", "reply path", "whether the guest answers clients from other networks", kernel, beyond.reply),
    HopKind(
        "door-rule",
        "door rule",
        "the rule in the kernel and its target, verified by a connection; rules of other programs before it",
        kernel,
        host.door_rule,
    ),
    HopKind(
        "forwarding",
        "forwarding",
        "net.ipv4.ip_forward, and whether the kernel forwards packets of a client and the replies",
        kernel,
        host.forwarding,
    ),
    HopKind("firewall", "firewalls", "the rules of other programs, if their effect is certain", every, host.firewall),
    HopKind(
        "sources",
        "sources",
        "whether a client is admitted by the door and by the guest (--asker)",
        kernel,
        host.sources,
    ),
    HopKind("lan-address", "LAN address", "this host's address on the LAN, and its link", lan, host.lan_address),
    HopKind("router", "router", "from outside: the port mapping in the router", above, router.router),
    HopKind("outside-address", "outside", "from outside: the router's outside address", above, router.outside_address),
    HopKind("door", "the door", "a connection through the door from this host", every, host.door),
    HopKind(
        "there",
        "from there",
        "a connection through the door from the machine that --at names",
        asked_there,
        there.there,
    ),
    HopKind("names", "names", "warning: whether the lab's name server has the guest's name", every, host.names),
)
# Hops that are judged by questions asked after the service responded.
BEHIND_WORDS = frozenset(k.name for k in WAY[[k.name for k in WAY].index("protocol") + 1 :])
# The name of each hop for people, by its stable name.
SHOWN = {kind.name: kind.shown for kind in WAY}
