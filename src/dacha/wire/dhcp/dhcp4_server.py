"""The DHCP server as a state machine: messages and time in, replies and wishes out (RFC 2131 section 4.3).

It opens no socket and reads no clock. Time is Unix seconds, because leases outlive the process.
"""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network

from dacha.wire.dhcp.dhcp4 import BROADCAST_FLAG, Kind, Message, Option, encode_routes, encode_search
from dacha.wire.dhcp.dhcp4_lease import Action, Keep, Lease, Probe, Reply, Scope
from dacha.wire.http import quote

# An offer is kept for its client this long; a declined address is left alone for an hour.
OFFER_S, DECLINED_S = 30.0, 3600.0
# Addresses that one machine may have at once, under as many names: its firmware's, its installer's, its system's. One
# more takes the place of its oldest, so that nobody takes a whole range.
EACH_MOST = 4
# Firmware of 64 bits by UEFI, under both of its numbers (RFC 4578 section 2.1, with its erratum).
UEFI = (7, 9)
# The same, that starts by HTTP (IANA, Processor Architecture Types).
HTTP = (16,)
NOBODY = b"\0\0\0\0"


class Server:
    """One network's server. `receive` and `probed` give what to do, in order."""

    def __init__(self, scope: Scope, leases: dict[IPv4Address, Lease] | None = None) -> None:
        self.scope = scope
        self.leases: dict[IPv4Address, Lease] = dict(leases or {})
        # By identifier and hardware address: the first is only what a client says of itself, and may be another's.
        self._of_client: dict[tuple[bytes, bytes], IPv4Address] = {
            (x.client, x.hardware): x.address for x in self.leases.values() if x.state in ("bound", "released")
        }
        self._reserved = {r.address for r in scope.reservations.values()}
        self._next = 0
        # What each answer says beyond the address itself is the same for the whole network.
        self._common = _common_options(scope)

    def receive(self, m: Message, now: float) -> list[Action]:
        """What to do about a message of a client. Nothing for what is not ours to answer."""
        if m.op != 1 or m.htype != 1 or len(m.chaddr) != 6:
            return []
        match m.kind:
            case Kind.DISCOVER:
                return self._discover(m, now)
            case Kind.REQUEST:
                return self._request(m, now)
            case Kind.DECLINE:
                return self._decline(m, now)
            case Kind.RELEASE:
                return self._release(m, now)
            case Kind.INFORM:
                return self._inform(m)
        return []

    def _discover(self, m: Message, now: float) -> list[Action]:
        reserved = self.scope.reservations.get(m.chaddr)
        if reserved:
            return [self._offer(m, reserved.address)]
        known = self._of_client.get(_who(m))
        if known is not None and self._may_have(m, known, now):
            return [*self._hold(m, known, now), self._offer(m, known)]
        wanted = m.address(Option.REQUESTED_ADDRESS)
        oldest = self._oldest_of(m, now)
        if oldest is not None:
            return [*self._hold(m, oldest, now), self._offer(m, oldest)]
        address = wanted if wanted and self._in_range(wanted) and self._free(wanted, now) else self._pick(now)
        if address is None:
            return []
        return [*self._hold(m, address, now), Probe(address, m)]

    def probed(self, probe: Probe, answered: bool, now: float) -> list[Action]:
        """The outcome of a probe: the offer, or the next address when somebody has that one."""
        if not answered:
            return [self._offer(probe.message, probe.address)]
        taken = Lease(probe.address, b"", b"", now + DECLINED_S, "declined")
        self.leases[probe.address] = taken
        return [Keep(taken), *self._discover(probe.message, now)]

    def _request(self, m: Message, now: float) -> list[Action]:
        server, requested = m.address(Option.SERVER), m.address(Option.REQUESTED_ADDRESS)
        if server is not None and server != self.scope.server:
            # It chose another server; what was held for it is free again (RFC 2131 section 4.3.2).
            held = self._of_client.get(_who(m))
            if held is not None and self.leases[held].state == "offered":
                del self.leases[held], self._of_client[_who(m)]
            return []
        address = requested or IPv4Address(m.ciaddr)
        if m.giaddr == NOBODY and address not in self.scope.subnet and server is None and requested is not None:
            return [self._nak(m, "this address is of another network")]
        if self._may_have(m, address, now):
            return [*self._bind(m, address, now), self._ack(m, address)]
        if server is None and m.ciaddr == NOBODY and not self._knows(m):
            # Rebooted, and not known here: some other server's client, to be left alone (section 4.3.2).
            return []
        return [self._nak(m, "this address is not yours")]

    def _decline(self, m: Message, now: float) -> list[Action]:
        address = m.address(Option.REQUESTED_ADDRESS)
        if address is None or m.address(Option.SERVER) != self.scope.server or not self._may_have(m, address, now):
            return []
        self._of_client.pop(_who(m), None)
        if address in self._reserved:
            return []  # the lab's word stands; that somebody else uses it is a conflict to be told
        taken = Lease(address, b"", m.chaddr, now + DECLINED_S, "declined")
        self.leases[address] = taken
        return [Keep(taken)]

    def _release(self, m: Message, now: float) -> list[Action]:
        lease = self.leases.get(IPv4Address(m.ciaddr))
        if lease is None or (lease.client, lease.hardware) != _who(m):
            return []
        # Its client is remembered, so that it gets the same address again while nobody else needs it.
        released = lease._replace(state="released", until=now)
        self.leases[lease.address] = released
        return [Keep(released)]

    def _inform(self, m: Message) -> list[Action]:
        if IPv4Address(m.ciaddr) not in self.scope.subnet:
            return []
        # It has an address already: parameters only, no lease time (section 4.3.5).
        return [self._reply(m, Kind.ACK, None, self._common)]

    def _knows(self, m: Message) -> bool:
        return m.chaddr in self.scope.reservations or _who(m) in self._of_client

    def _may_have(self, m: Message, address: IPv4Address, now: float) -> bool:
        """True when this client may use this address now."""
        reserved = self.scope.reservations.get(m.chaddr)
        if reserved:
            return reserved.address == address
        if not self._in_range(address):
            return False
        lease = self.leases.get(address)
        if lease is None:
            return False
        return (lease.client, lease.hardware) == _who(m) and lease.state != "declined"

    def _in_range(self, address: IPv4Address) -> bool:
        dynamic = self.scope.dynamic
        return dynamic is not None and dynamic[0] <= address <= dynamic[1] and address not in self._reserved

    def _free(self, address: IPv4Address, now: float) -> bool:
        lease = self.leases.get(address)
        return lease is None or lease.until <= now

    def _oldest_of(self, m: Message, now: float) -> IPv4Address | None:
        """The address that a machine has had longest, when it has as many as one may have."""
        if m.giaddr != NOBODY:
            return None  # a relay's clients are told apart by the relay
        has = [x for x in self.leases.values() if x.hardware == m.chaddr and x.until > now and x.state != "declined"]
        return min(has, key=lambda x: x.until).address if len(has) >= EACH_MOST else None

    def _pick(self, now: float) -> IPv4Address | None:
        """A free address of the dynamic range: one that nobody had first, then the one that is free the longest."""
        if self.scope.dynamic is None:
            return None
        low, high = (int(a) for a in self.scope.dynamic)
        for step in range(high - low + 1):
            address = IPv4Address(low + (self._next + step) % (high - low + 1))
            if address not in self.leases and address not in self._reserved:
                self._next = int(address) - low + 1
                return address
        expired = [x for x in self.leases.values() if x.until <= now and self._in_range(x.address)]
        return min(expired, key=lambda x: x.until).address if expired else None

    def _hold(self, m: Message, address: IPv4Address, now: float) -> list[Action]:
        """Keep an address for a client while it decides; a lease that it has stands as it is."""
        lease = self.leases.get(address)
        if lease and (lease.client, lease.hardware) == _who(m) and lease.state == "bound" and lease.until > now:
            return []
        if lease:
            self._of_client.pop((lease.client, lease.hardware), None)
        self.leases[address] = Lease(address, m.client, m.chaddr, now + OFFER_S, "offered", _host_name(m))
        self._of_client[_who(m)] = address
        return []

    def _bind(self, m: Message, address: IPv4Address, now: float) -> list[Action]:
        reserved = self.scope.reservations.get(m.chaddr)
        name = reserved.host_name if reserved else _host_name(m)
        lease = Lease(address, m.client, m.chaddr, now + self.scope.lease_s, "bound", name)
        before = self.leases.get(address)
        if before:
            # The same machine under another identifier, as its loader and its system may have.
            self._of_client.pop((before.client, before.hardware), None)
        self.leases[address] = lease
        self._of_client[_who(m)] = address
        return [Keep(lease)]

    def _offer(self, m: Message, address: IPv4Address) -> Reply:
        return self._reply(m, Kind.OFFER, address, self._timed(m))

    def _ack(self, m: Message, address: IPv4Address) -> Reply:
        return self._reply(m, Kind.ACK, address, self._timed(m))

    def _timed(self, m: Message) -> dict[int, bytes]:
        time = self.scope.lease_s
        options = {
            Option.LEASE_TIME: time.to_bytes(4, "big"),
            Option.RENEWAL_TIME: (time // 2).to_bytes(4, "big"),
            Option.REBINDING_TIME: (time * 7 // 8).to_bytes(4, "big"),
            **self._common,
        }
        reserved = self.scope.reservations.get(m.chaddr)
        if reserved:
            options[Option.HOST_NAME] = reserved.host_name.encode()
        return options

    def _boot(self, m: Message) -> dict[int, bytes]:
        """What a client that starts from the network is told: its first file, by TFTP or by HTTP. Empty for others, and
        where there is none for it."""
        architecture, boot, server = _architecture(m), self.scope.boot, str(self.scope.server)
        if boot is None or architecture is None:
            return {}
        if architecture in HTTP:
            # Only with the class in it is it an answer for such firmware (UEFI specification 2.10, section 24.7).
            place = f"http://{server}/{quote(boot.uefi)}".encode() if boot.uefi else b""
            return {Option.CLASS: b"HTTPClient", Option.BOOT_FILE: place} if place else {}
        name = boot.uefi if architecture in UEFI and not boot.http else boot.bios if architecture == 0 else None
        return {Option.TFTP_SERVER: server.encode(), Option.BOOT_FILE: name.encode()} if name else {}

    def _nak(self, m: Message, why: str) -> Reply:
        reply = self._reply(m, Kind.NAK, None, {Option.MESSAGE: why.encode()})
        message = reply.message._replace(ciaddr=NOBODY)
        if m.giaddr != NOBODY:
            # The relay has to broadcast it: the client may not hear its wrong address (section 4.3.2).
            return reply._replace(message=message._replace(flags=m.flags | BROADCAST_FLAG))
        return Reply(message, IPv4Address("255.255.255.255"), 68, False)

    def _reply(self, m: Message, kind: Kind, address: IPv4Address | None, options: dict[int, bytes]) -> Reply:
        """An answer and where it goes (section 4.1)."""
        said = {Option.KIND: bytes((kind,)), Option.SERVER: self.scope.server.packed, **options}
        if kind in (Kind.OFFER, Kind.ACK):
            said |= self._boot(m)
        # A place is no file's name: that field is TFTP's.
        file = said.get(Option.BOOT_FILE, b"") if Option.TFTP_SERVER in said else b""
        if Option.RELAY_INFORMATION in m.options:
            # A relay finds its client by this, so it comes back as it was, and last (RFC 3046 section 2.2).
            said[Option.RELAY_INFORMATION] = m.options[Option.RELAY_INFORMATION]
        message = Message(
            op=2, xid=m.xid, chaddr=m.chaddr, options=said, flags=m.flags,
            ciaddr=m.ciaddr if kind is Kind.ACK else NOBODY, yiaddr=address.packed if address else NOBODY,
            siaddr=self.scope.server.packed, giaddr=m.giaddr, file=file if len(file) < 128 else b"",
        )  # fmt: skip
        if m.giaddr != NOBODY:
            return Reply(message, IPv4Address(m.giaddr), 67, False)
        if m.ciaddr != NOBODY:
            return Reply(message, IPv4Address(m.ciaddr), 68, False)
        if m.flags & BROADCAST_FLAG or address is None:
            return Reply(message, IPv4Address("255.255.255.255"), 68, False)
        return Reply(message, address, 68, True)


def _architecture(m: Message) -> int | None:
    """The firmware that a client starts from the network with (RFC 4578 section 2.1); None for what does not."""
    said = m.options.get(Option.ARCHITECTURE, b"")
    if len(said) >= 2:
        return int.from_bytes(said[:2], "big")
    return 0 if m.options.get(Option.CLASS, b"").startswith(b"PXEClient") else None


def _who(m: Message) -> tuple[bytes, bytes]:
    return m.client, m.chaddr


def _host_name(m: Message) -> str:
    """The name that a client gives of itself, as far as it is one."""
    said = m.options.get(Option.HOST_NAME, b"").rstrip(b"\0")[:63].decode("ascii", "replace").lower()
    return said if said.replace("-", "").isalnum() and said.isascii() else ""


def _common_options(scope: Scope) -> dict[int, bytes]:
    options: dict[int, bytes] = {
        Option.SUBNET_MASK: scope.subnet.netmask.packed,
        Option.BROADCAST: scope.subnet.broadcast_address.packed,
    }
    if scope.router:
        options[Option.ROUTER] = scope.router.packed
    if scope.name_servers:
        options[Option.NAME_SERVER] = b"".join(a.packed for a in scope.name_servers)
    if scope.domain:
        options[Option.DOMAIN_NAME] = scope.domain.encode()
        options[Option.SEARCH] = encode_search([scope.domain])
    if scope.mtu:
        options[Option.INTERFACE_MTU] = scope.mtu.to_bytes(2, "big")
    if scope.ntp:
        options[Option.NTP] = b"".join(a.packed for a in scope.ntp)
    if scope.routes:
        # A client that takes these ignores the router option, so the default route is among them (RFC 3442).
        default = [(IPv4Network("0.0.0.0/0"), scope.router)] if scope.router else []
        options[Option.CLASSLESS_ROUTES] = encode_routes([*scope.routes, *default])
    return options
