"""The contents and destination of a DHCP server's answers (RFC 2131 sections 4.1 and 4.3, RFC 2132)."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network

from dacha.wire.dhcp.dhcp4 import BROADCAST_FLAG, Kind, Message, Option, encode_routes, encode_search
from dacha.wire.dhcp.dhcp4_lease import Reply, Scope
from dacha.wire.http import quote

# 64-bit UEFI firmware, under both of its numbers (RFC 4578 section 2.1, with its erratum).
UEFI = (7, 9)
# The same for HTTP boot (IANA, Processor Architecture Types).
HTTP = (16,)
NOBODY = b"\0\0\0\0"


class Answers:
    """One network's answers."""

    def __init__(self, scope: Scope) -> None:
        self._scope = scope
        # The options besides the address are the same for the whole network.
        self._common = _common_options(scope)

    def offer(self, m: Message, address: IPv4Address) -> Reply:
        """An offer of an address."""
        return self._reply(m, Kind.OFFER, address, self._timed(m))

    def ack(self, m: Message, address: IPv4Address) -> Reply:
        """An acknowledgement that assigns an address."""
        return self._reply(m, Kind.ACK, address, self._timed(m))

    def _timed(self, m: Message) -> dict[int, bytes]:
        time = self._scope.lease_s
        options = {
            Option.LEASE_TIME: time.to_bytes(4, "big"),
            Option.RENEWAL_TIME: (time // 2).to_bytes(4, "big"),
            Option.REBINDING_TIME: (time * 7 // 8).to_bytes(4, "big"),
            **self._common,
        }
        reserved = self._scope.reservations.get(m.chaddr)
        if reserved:
            options[Option.HOST_NAME] = reserved.host_name.encode()
        return options

    def _boot(self, m: Message) -> dict[int, bytes]:
        """The options with the boot file for a client that boots from the network, by TFTP or HTTP. Empty for other
        clients, and if the network has no file for its firmware."""
        architecture, boot, server = _architecture(m), self._scope.boot, str(self._scope.server)
        if boot is None or architecture is None:
            return {}
        if architecture in HTTP:
            # Firmware accepts an answer only if it contains this class (UEFI specification 2.10, section 24.7).
            place = f"http://{server}/{quote(boot.uefi)}".encode() if boot.uefi else b""
            return {Option.CLASS: b"HTTPClient", Option.BOOT_FILE: place} if place else {}
        name = boot.uefi if architecture in UEFI and not boot.http else boot.bios if architecture == 0 else None
        return {Option.TFTP_SERVER: server.encode(), Option.BOOT_FILE: name.encode()} if name else {}

    def parameters(self, m: Message) -> Reply:
        """For a client that already has an address: parameters only, no lease time (RFC 2131 section 4.3.5)."""
        return self._reply(m, Kind.ACK, None, self._common)

    def nak(self, m: Message, why: str) -> Reply:
        """A DHCPNAK: the requested address is refused."""
        reply = self._reply(m, Kind.NAK, None, {Option.MESSAGE: why.encode()})
        message = reply.message._replace(ciaddr=NOBODY)
        if m.giaddr != NOBODY:
            # The relay must broadcast it: the client may not receive it on its wrong address (section 4.3.2).
            return reply._replace(message=message._replace(flags=m.flags | BROADCAST_FLAG))
        return Reply(message, IPv4Address("255.255.255.255"), 68, False)

    def _reply(self, m: Message, kind: Kind, address: IPv4Address | None, options: dict[int, bytes]) -> Reply:
        """An answer and its destination (section 4.1)."""
        said = {Option.KIND: bytes((kind,)), Option.SERVER: self._scope.server.packed, **options}
        if kind in (Kind.OFFER, Kind.ACK):
            said |= self._boot(m)
        # A URL does not belong into this field, which is for TFTP.
        file = said.get(Option.BOOT_FILE, b"") if Option.TFTP_SERVER in said else b""
        if Option.CLIENT in m.options:
            said[Option.CLIENT] = m.options[
                Option.CLIENT
            ]  # The client identifies its answer by this (RFC 6842 section 3).
        if Option.RELAY_INFORMATION in m.options:
            # A relay finds its client by this option: it is returned unchanged, and last (RFC 3046 section 2.2).
            said[Option.RELAY_INFORMATION] = m.options[Option.RELAY_INFORMATION]
        message = Message(
            op=2, xid=m.xid, chaddr=m.chaddr, options=said, flags=m.flags,
            ciaddr=m.ciaddr if kind is Kind.ACK else NOBODY, yiaddr=address.packed if address else NOBODY,
            siaddr=self._scope.server.packed, giaddr=m.giaddr, file=file if len(file) < 128 else b"",
        )  # fmt: skip
        if m.giaddr != NOBODY:
            return Reply(message, IPv4Address(m.giaddr), 67, False)
        if m.ciaddr != NOBODY:
            return Reply(message, IPv4Address(m.ciaddr), 68, False)
        if m.flags & BROADCAST_FLAG or address is None:
            return Reply(message, IPv4Address("255.255.255.255"), 68, False)
        return Reply(message, address, 68, True)


def _architecture(m: Message) -> int | None:
    """The client's firmware for network boot (RFC 4578 section 2.1); None for other clients."""
    said = m.options.get(Option.ARCHITECTURE, b"")
    if len(said) >= 2:
        return int.from_bytes(said[:2], "big")
    return 0 if m.options.get(Option.CLASS, b"").startswith(b"PXEClient") else None


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
        # A client that accepts these ignores the router option, so they include the default route (RFC 3442).
        default = [(IPv4Network("0.0.0.0/0"), scope.router)] if scope.router else []
        options[Option.CLASSLESS_ROUTES] = encode_routes([*scope.routes, *default])
    return options
