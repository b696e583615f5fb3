"""The names of one lab, forward and reverse, as DNS answers them (RFC 1034, RFC 1035, RFC 2308, RFC 6891)."""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.opcode
import dns.rcode
import dns.rdata
import dns.rdataclass
import dns.rdatatype
import dns.reversename
import dns.rrset

Address = IPv4Address | IPv6Address
Subnet = IPv4Network | IPv6Network
# A guest's address may change with the next apply, so answers have a short lifetime.
TTL_S = 60
# The limit of a client without EDNS over UDP (RFC 1035 section 2.3.4), and the limit for unfragmented answers to any
# client (RFC 9715 section 3.2).
PLAIN_MOST, EDNS_MOST = 512, 1232
# A cache of encoded answers. The limits bound floods of names, and of queries with different additional data: only
# short ones are stored.
REMEMBERED_MOST, REMEMBERED_BYTES = 20_000, 256
# The maximum size of a query: a name of 255 bytes and EDNS data (RFC 1035 section 2.3.4, RFC 6891 section 6.1.1).
QUERY_MOST = 4096


class Zone:
    """The names of one lab. `answer` returns None for a question that is not about the lab."""

    def __init__(self, domain: str, names: Mapping[str, Iterable[Address]], subnets: Iterable[Subnet]) -> None:
        """`names` are guests without the domain; `subnets` are those whose reverse names the lab answers for."""
        self.origin = dns.name.from_text(domain)
        self._forward: dict[dns.name.Name, list[Address]] = {}
        self._reverse: dict[dns.name.Name, dns.name.Name] = {}
        for label, addresses in names.items():
            full = dns.name.from_text(label, self.origin)
            self._forward[full] = list(addresses)
            for address in self._forward[full]:
                self._reverse.setdefault(dns.reversename.from_address(str(address)), full)
        self._subnets = list(subnets)
        self._soa = dns.rrset.from_text(
            self.origin, TTL_S, "IN", "SOA", f"ns.{domain}. hostmaster.{domain}. 1 3600 600 86400 {TTL_S}"
        )
        self._remembered: dict[tuple[bytes, bool], bytes] = {}

    def seen_from(self, subnets: Iterable[Subnet]) -> Zone:
        """The same names for clients in these subnets: of a guest with several addresses, those that the client reaches
        without a router."""
        near = [s for s in subnets if s.version in (4, 6)]

        def at(addresses: list[Address], version: int) -> list[Address]:
            mine = [a for a in addresses if a.version == version]
            return [a for a in mine if any(a.version == s.version and a in s for s in near)] or mine

        other = copy.copy(self)
        other._forward = {name: [*at(has, 4), *at(has, 6)] for name, has in self._forward.items()}
        other._remembered = {}
        return other

    def answer(self, query: bytes, *, udp: bool = True) -> bytes | None:
        """The encoded answer to a query; b"" if it must not be answered; None for other names."""
        remembered = self._remembered.get((query[2:], udp))
        if remembered is not None:
            return query[:2] + remembered
        # A response, or too short: answering it could create a loop.
        if len(query) < 12 or query[2] & 0x80 or len(query) > QUERY_MOST:
            return b""
        try:
            asked = dns.message.from_wire(query, ignore_trailing=True)
        except (dns.exception.DNSException, ValueError):
            return query[:2] + bytes((0x80 | query[2] & 0x79, dns.rcode.FORMERR)) + bytes(8)
        made = self._answer(asked)
        if made is None:
            return None
        wire = fit(made, asked, udp)
        if len(self._remembered) < REMEMBERED_MOST and len(query) + len(wire) <= REMEMBERED_BYTES:
            self._remembered[query[2:], udp] = wire[2:]
        return wire

    def _answer(self, asked: dns.message.Message) -> dns.message.Message | None:
        if asked.edns > 0:
            return _refusal(asked, dns.rcode.BADVERS)  # RFC 6891 section 6.1.3
        if asked.opcode() != dns.opcode.QUERY:
            return _refusal(asked, dns.rcode.NOTIMP)
        if len(asked.question) != 1:
            return _refusal(asked, dns.rcode.FORMERR)
        question = asked.question[0]
        if question.rdclass != dns.rdataclass.IN:
            return _refusal(asked, dns.rcode.REFUSED)
        name = question.name
        if name.is_subdomain(self.origin):
            return self._about_guest(asked, name, question.rdtype)
        if self._is_reverse(name):
            return self._about_address(asked, name, question.rdtype)
        return None

    def _about_guest(self, asked: dns.message.Message, name: dns.name.Name, kind: int) -> dns.message.Message:
        answer = _reply(asked)
        addresses = self._forward.get(name)
        if addresses is None and name != self.origin:
            answer.set_rcode(dns.rcode.NXDOMAIN)
        elif name == self.origin and kind == dns.rdatatype.SOA:
            answer.answer.append(self._soa)
            return answer
        for version, wanted in ((4, dns.rdatatype.A), (6, dns.rdatatype.AAAA)):
            found = [str(a) for a in addresses or () if a.version == version]
            if kind in (wanted, dns.rdatatype.ANY) and found:
                answer.answer.append(dns.rrset.from_text_list(name, TTL_S, "IN", wanted, found))
        return self._or_nothing(answer)

    def _about_address(self, asked: dns.message.Message, name: dns.name.Name, kind: int) -> dns.message.Message:
        answer = _reply(asked)
        full = self._reverse.get(name)
        if full is None:
            answer.set_rcode(dns.rcode.NXDOMAIN)
        elif kind in (dns.rdatatype.PTR, dns.rdatatype.ANY):
            answer.answer.append(dns.rrset.from_text(name, TTL_S, "IN", "PTR", full.to_text()))
        return self._or_nothing(answer)

    def _or_nothing(self, answer: dns.message.Message) -> dns.message.Message:
        """A negative answer contains the zone's SOA, so that it is cached no longer than other answers (RFC 2308)."""
        if not answer.answer:
            answer.authority.append(self._soa)
        return answer

    def _is_reverse(self, name: dns.name.Name) -> bool:
        try:
            address = IPv4Address if name.is_subdomain(dns.reversename.ipv4_reverse_domain) else IPv6Address
            found = address(dns.reversename.to_address(name))
        except (dns.exception.DNSException, ValueError):
            return False
        return any(found.version == s.version and found in s for s in self._subnets)


def _reply(asked: dns.message.Message) -> dns.message.Message:
    answer = dns.message.make_response(asked, recursion_available=True)
    answer.flags |= dns.flags.AA
    return answer


def _refusal(asked: dns.message.Message, code: dns.rcode.Rcode) -> dns.message.Message:
    answer = dns.message.make_response(asked, recursion_available=True)
    answer.set_rcode(code)
    return answer


def failure(query: bytes, code: dns.rcode.Rcode = dns.rcode.SERVFAIL) -> bytes:
    """The answer if no server could be queried (SERVFAIL), or none may be (REFUSED); b"" for a malformed query."""
    try:
        return _refusal(dns.message.from_wire(query, ignore_trailing=True), code).to_wire()
    except (dns.exception.DNSException, ValueError):
        return b""


def fit(answer: dns.message.Message, asked: dns.message.Message, udp: bool) -> bytes:
    """The encoded answer in a size that the client accepts; if it is too long for UDP, it is emptied and marked as
    truncated (RFC 2181 section 9), so that the client repeats the query over TCP."""
    wire = answer.to_wire(max_size=65535)
    most = min(max(asked.payload, PLAIN_MOST), EDNS_MOST) if asked.edns >= 0 else PLAIN_MOST
    if not udp or len(wire) <= most:
        return wire
    short = dns.message.make_response(asked, recursion_available=True)
    short.flags |= dns.flags.TC
    return short.to_wire()
