"""Messages between the caretaker's two parts.

The packet worker reads guests' data and could be compromised by it; the root part keeps leases, rules and files. The
root part accepts only these few messages from the worker, each checked against the lab before it is used. The worker
does not check the root part's messages: that is the more trusted side.
"""

from __future__ import annotations

import json
import math
import pickle
import socket
from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Network, IPv6Address, ip_address

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.core.reach.lan_names import LanName
from dacha.core.zone import without_zone
from dacha.wire.dhcp.dhcp4_lease import Lease, Scope
from dacha.wire.dhcp.dhcp6 import Scope6
from dacha.wire.dns.zone import Address, Subnet
from dacha.wire.link.router_advertisement import Advertisement

# The maximum length of a worker's message, and of a text in one.
MOST, TEXT_MOST = 4096, 300
# In place of a network's name, for what concerns the LAN. (No network has a name with a space.)
LAN = "the LAN"
# The kernel's SCM_MAX_FD is 253: one network has fewer than twenty sockets.
DESCRIPTORS_MOST = 64
# Requests of the root part to the fork server: with a worker's two channels, its channel to the frame relay, and the
# file for its error messages; or with a relay's two channels. The answer: its id, with its pidfd.
START, RELAY = b"start", b"relay"


class Keep(NamedTuple):
    """Store a lease, and confirm it: the client gets its answer only then."""

    number: int
    network: str
    lease: Lease


class Used(NamedTuple):
    """The guest behind a link uses an address; `by` is "wire" or "lease"."""

    link: str
    address: IPv4Address | IPv6Address
    by: str


class Says(NamedTuple):
    """A line for the log."""

    network: str
    text: str


class Want(NamedTuple):
    """Open a boot file: its name as a guest requested it, and that guest's address."""

    number: int
    network: str
    client: str
    path: str


class Up(NamedTuple):
    """The worker serves everything that it was ordered to."""


Told = Keep | Used | Says | Want | Up


class Serve(NamedTuple):
    """Serve one network with these settings, also if it is already served. Its sockets are attached: `sockets` names
    their purposes."""

    network: str
    link: str
    scope: Scope | None
    leases: tuple[Lease, ...]
    scope6: Scope6 | None
    advertisement: Advertisement | None
    admitted: tuple[Subnet, ...]
    way_out: bool
    sockets: tuple[str, ...]


class Stop(NamedTuple):
    """Stop serving that network."""

    network: str


class Listen(NamedTuple):
    """Process what the frame relay receives on these links."""

    taps: dict[str, Tap]


class Attach(NamedTuple):
    """To the frame relay: these sockets, one for each of `links`. A link is (name, network, server): a socket with a
    network sends on that bridge, as the DHCP server with that address; the others receive. The `first` of several
    orders replaces what was attached before."""

    links: tuple[tuple[str, str, str], ...]
    first: bool


class Tap(NamedTuple):
    """A link to listen on: the hardware address behind it, whether this host seems to send what its guest sends (as
    with macvtap), and whether the lab assigns the leases there."""

    hardware: str
    outgoing: bool = False
    managed: bool = True


class Names(NamedTuple):
    """Use these names, and forward other queries to these servers."""

    domain: str
    names: dict[str, tuple[Address, ...]]
    subnets: tuple[Subnet, ...]
    resolvers: tuple[str, ...]


class Announce(NamedTuple):
    """Announce these names on the LAN, through the attached socket, and no others; without names, none. Only machines
    in the subnet are listened to."""

    names: tuple[LanName, ...]
    subnet: IPv4Network


class Kept(NamedTuple):
    """The lease with that number is stored."""

    number: int


class BootFile(NamedTuple):
    """The file with that number is attached, with its size; or (`size` None) it does not exist."""

    number: int
    size: int | None


class Begin(NamedTuple):
    """All orders were sent: confirm that everything is served."""


Order = Serve | Stop | Listen | Attach | Names | Announce | Kept | BootFile | Begin


def encode(message: Told) -> bytes:
    match message:
        case Keep(number=number, network=network, lease=x):
            row = ["keep", number, network, str(x.address), x.client.hex(), x.hardware.hex(), x.until, x.state]
            return json.dumps([*row, x.host_name]).encode()
        case Used(link=link, address=address, by=by):
            return json.dumps(["used", link, str(address), by]).encode()
        case Want(number=number, network=network, client=client, path=path):
            return json.dumps(["want", number, network, client, path])[:MOST].encode()
        case Says(network=network, text=text):
            return json.dumps(["says", network, text[:TEXT_MOST]]).encode()[:MOST]
    return b'["up"]'


def decode(data: bytes) -> Told:
    """Read one message of the worker. Raises PeerError for anything but the five valid ones."""
    try:
        if len(data) > MOST:
            raise ValueError("too long")
        match json.loads(data):
            case ["keep", int(number), str(network), str(address), str(client), str(hardware), until, str(state), name]:
                lease = Lease(
                    IPv4Address(address), bytes.fromhex(client), bytes.fromhex(hardware), float(until), state, name
                )
                _check(lease)
                return Keep(number, network, lease)
            case ["used", str(link), str(address), "wire" | "lease" as by]:
                return Used(link, without_zone(ip_address(address)), by)
            case ["says", str(network), str(text)] if len(text) <= TEXT_MOST:
                return Says(network, text)
            case ["want", int(number), str(network), str(client), str(path)] if (
                len(path) <= TEXT_MOST and "\0" not in path
            ):
                return Want(number, network, client, path)
            case ["up"]:
                return Up()
    except (ValueError, TypeError, RecursionError) as e:
        raise PeerError("unexpected message from the packet worker", why=str(e)) from None
    raise PeerError("unexpected message from the packet worker")


def _check(lease: Lease) -> None:
    """Raise ValueError for a lease that no client can have."""
    name = lease.host_name
    if lease.state not in ("bound", "released", "declined") or not math.isfinite(lease.until):
        raise ValueError("not a lease state")
    if len(lease.client) > 255 or len(lease.hardware) not in (0, 6):
        raise ValueError("not a client")
    if not isinstance(name, str) or len(name) > 63 or not name.isascii():
        raise ValueError("not a name")
    if name and not name.replace("-", "").isalnum():
        raise ValueError("not a name")


def may_keep(lease: Lease, scope: Scope, now: float) -> bool:
    """True if this network can give such a lease, whichever client requests it."""
    reserved = scope.reservations.get(lease.hardware)
    if lease.until > now + 2 * max(scope.lease_s, 3600):
        return False
    if reserved:
        return lease.address == reserved.address
    dynamic = scope.dynamic
    if dynamic is None or not dynamic[0] <= lease.address <= dynamic[1]:
        return False
    return all(r.address != lease.address for r in scope.reservations.values())


def send_order(channel: socket.socket, order: Order, descriptors: Iterable[int] = ()) -> None:
    """From the root part: one order, with open sockets. Blocks until the worker receives it. Raises OSError."""
    data = pickle.dumps(order)
    fds = list(descriptors)
    head = len(data).to_bytes(4, "big")
    if fds:
        socket.send_fds(channel, [head], fds)
    else:
        channel.sendall(head)
    channel.sendall(data)


def receive_order(channel: socket.socket) -> tuple[Order, list[int]] | None:
    """The root part's next order, with its sockets; None when it has exited. Blocks."""
    head, fds, _, _ = socket.recv_fds(channel, 4, DESCRIPTORS_MOST)
    if not head:
        return None
    while len(head) < 4:
        head += channel.recv(4 - len(head))
    data = bytearray()
    length = int.from_bytes(head, "big")
    while len(data) < length:
        part = channel.recv(min(1 << 20, length - len(data)))
        if not part:
            return None
        data += part
    return pickle.loads(bytes(data)), fds
