"""The DHCP server as a state machine: messages and time in, replies and other actions out (RFC 2131 section 4.3). It
opens no socket and reads no clock. Time is Unix seconds, because leases outlive the process."""

from __future__ import annotations

from ipaddress import IPv4Address

from dacha.wire.dhcp.dhcp4 import Kind, Message, Option
from dacha.wire.dhcp.dhcp4_answers import NOBODY, Answers
from dacha.wire.dhcp.dhcp4_lease import Action, Full, Keep, Lease, Probe, Scope, Wait

# How long an offer is held for its client; how long a declined address is not assigned (seconds).
OFFER_S, DECLINED_S = 30.0, 3600.0
# A probe has ended by then, whatever its result.
PROBED_S = 5.0
# The number of addresses that one machine may have at once, under different identifiers: those of its firmware,
# installer and system. A further one replaces the oldest, so that no machine can use up the range.
EACH_MOST = 4


class Server:
    """One network's server. `receive` and `probed` return actions, in order."""

    def __init__(self, scope: Scope, leases: dict[IPv4Address, Lease] | None = None) -> None:
        self.scope = scope
        self.leases: dict[IPv4Address, Lease] = dict(leases or {})
        # By identifier and hardware address: a client may send another client's identifier.
        self._of_client: dict[tuple[bytes, bytes], IPv4Address] = {
            (x.client, x.hardware): x.address for x in self.leases.values() if x.state in ("bound", "released")
        }
        self._reserved = {r.address for r in scope.reservations.values()}
        self._next = 0
        # When the probe of an address began, and the latest time that was passed in.
        self._probing: dict[IPv4Address, float] = {}
        self._latest = float("inf")
        self._answers = Answers(scope)

    def receive(self, m: Message, now: float) -> list[Action]:
        """The actions for a client's message; none for a message that needs no answer."""
        if m.op != 1 or m.htype != 1 or len(m.chaddr) != 6:
            return []
        self._clamp(now)
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
            return [self._answers.offer(m, reserved.address)]
        known = self._of_client.get(_who(m))
        if known is not None and now - PROBED_S < self._probing.get(known, -PROBED_S) <= now:
            return [Wait()]  # The address is being probed; the offer follows (RFC 2131 section 3.1).
        if known is not None and self._may_have(m, known, now):
            return [*self._hold(m, known, now), self._answers.offer(m, known)]
        wanted = m.address(Option.REQUESTED_ADDRESS)
        oldest = self._oldest_of(m, now)
        if oldest is not None:
            return [*self._hold(m, oldest, now), self._answers.offer(m, oldest)]
        address = wanted if wanted and self._in_range(wanted) and self._free(wanted, now) else self._pick(now)
        if address is None:
            return [Full()] if self.scope.dynamic else []
        self._probing[address] = now
        return [*self._hold(m, address, now), Probe(address, m)]

    def probed(self, probe: Probe, answered: bool, now: float) -> list[Action]:
        """The result of a probe: the offer, or the next address if that one is in use."""
        self._probing.pop(probe.address, None)
        if not answered:
            return [self._answers.offer(probe.message, probe.address)]
        taken = Lease(probe.address, b"", b"", now + DECLINED_S, "declined")
        self.leases[probe.address] = taken
        return [Keep(taken), *self._discover(probe.message, now)]

    def _request(self, m: Message, now: float) -> list[Action]:
        server, requested = m.address(Option.SERVER), m.address(Option.REQUESTED_ADDRESS)
        if server is not None and server != self.scope.server:
            # It chose another server; the held address is free again (RFC 2131 section 4.3.2).
            held = self._of_client.get(_who(m))
            if held is not None and self.leases[held].state == "offered":
                del self.leases[held], self._of_client[_who(m)]
            return []
        address = requested or IPv4Address(m.ciaddr)
        if m.giaddr == NOBODY and address not in self.scope.subnet and server is None and requested is not None:
            return [self._answers.nak(m, "this address belongs to another network")]
        if self._may_have(m, address, now):
            return [*self._bind(m, address, now), self._answers.ack(m, address)]
        if server is None and m.ciaddr == NOBODY and not self._knows(m):
            # Rebooted, and unknown here: probably another server's client, so there is no answer (section 4.3.2).
            return []
        return [self._answers.nak(m, "this address belongs to another client")]

    def _decline(self, m: Message, now: float) -> list[Action]:
        address = m.address(Option.REQUESTED_ADDRESS)
        if address is None or m.address(Option.SERVER) != self.scope.server or not self._may_have(m, address, now):
            return []
        self._of_client.pop(_who(m), None)
        if address in self._reserved:
            return []  # The lab's reservation is kept; the conflict is reported.
        taken = Lease(address, b"", m.chaddr, now + DECLINED_S, "declined")
        self.leases[address] = taken
        return [Keep(taken)]

    def _release(self, m: Message, now: float) -> list[Action]:
        lease = self.leases.get(IPv4Address(m.ciaddr))
        if lease is None or (lease.client, lease.hardware) != _who(m):
            return []
        # Its client is remembered, so that it gets the same address again if it is still free.
        released = lease._replace(state="released", until=now)
        self.leases[lease.address] = released
        return [Keep(released)]

    def _inform(self, m: Message) -> list[Action]:
        if IPv4Address(m.ciaddr) not in self.scope.subnet:
            return []
        return [self._answers.parameters(m)]

    def _knows(self, m: Message) -> bool:
        return m.chaddr in self.scope.reservations or _who(m) in self._of_client

    def _may_have(self, m: Message, address: IPv4Address, now: float) -> bool:
        """True if this client may use this address now."""
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
        """The oldest address of a machine that has as many as allowed."""
        if m.giaddr != NOBODY:
            return None  # Clients of a relay are identified by the relay.
        # An address of a former range is not a candidate: it would be refused afterwards.
        has = [
            x
            for x in self.leases.values()
            if x.hardware == m.chaddr and x.until > now and x.state != "declined" and self._in_range(x.address)
        ]
        return min(has, key=lambda x: x.until).address if len(has) >= EACH_MOST else None

    def _clamp(self, now: float) -> None:
        """Limit every lease to the length of a new one: those from a clock that was ahead expire in time."""
        if now >= self._latest:
            self._latest = now
            return
        self._latest = now
        longest = now + max(float(self.scope.lease_s), DECLINED_S)
        for address, lease in self.leases.items():
            if lease.until > longest:
                self.leases[address] = lease._replace(until=longest)

    def _pick(self, now: float) -> IPv4Address | None:
        """A free address of the dynamic range: preferably one never used, else the one free for the longest time."""
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
        """Hold an address for a client while it decides; its existing lease is not changed."""
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
            # The same machine under another identifier, as its boot loader and its system may have.
            self._of_client.pop((before.client, before.hardware), None)
        self.leases[address] = lease
        self._of_client[_who(m)] = address
        return [Keep(lease)]


def _who(m: Message) -> tuple[bytes, bytes]:
    return m.client, m.chaddr


def _host_name(m: Message) -> str:
    """The host name that a client sends, if it is valid."""
    said = m.options.get(Option.HOST_NAME, b"").rstrip(b"\0")[:63].decode("ascii", "replace").lower()
    return said if said.replace("-", "").isalnum() and said.isascii() else ""
