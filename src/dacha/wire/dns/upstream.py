"""Queries that are forwarded to other name servers, and which answers are accepted (RFC 5452). ID, port and the case of
the name's letters are random for each, and an answer must repeat them."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address, IPv6Network, ip_address
from typing import Any

import dns.exception
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
from dns.rdtypes.svcbbase import ParamKey

HEADER = 12
# Names that are private by definition (RFC 6761, RFC 6762, RFC 8375, RFC 9476): machines of a LAN answer for them.
_PRIVATE_NAMES = tuple(
    dns.name.from_text(n) for n in ("local", "home.arpa", "internal", "lan", "home", "localdomain", "test", "alt")
)
_NAT64, _LOCAL_NAT64 = IPv6Network("64:ff9b::/96"), IPv6Network("64:ff9b:1::/48")
_REVERSE = (dns.name.from_text("in-addr.arpa"), dns.name.from_text("ip6.arpa"))


def question_of(message: bytes) -> bytes | None:
    """The question of a message in wire format: name, type, class; None unless it has exactly one valid question."""
    if len(message) < HEADER or message[4:6] != b"\0\1":
        return None
    at = HEADER
    while at < len(message) and message[at]:
        if message[at] > 63:  # Nothing before it could be the target of a pointer.
            return None
        at += 1 + message[at]
    end = at + 5
    return message[HEADER:end] if end <= len(message) and at - HEADER < 255 else None


def asked_anew(query: bytes, number: bytes, dice: int) -> bytes | None:
    """A guest's query in the form that is forwarded: with another ID (two bytes), and each letter of the name in upper
    or lower case by the bits of `dice`. None for a message that is not a query."""
    question = question_of(query)
    if question is None:
        return None
    name = bytearray(question[:-4])
    for at, byte in enumerate(name):
        # Length bytes are below 64, letters are not.
        if chr(byte).isalpha() and byte < 128:
            name[at] = byte & ~0x20 if dice >> at & 1 else byte | 0x20
    return number + query[2:HEADER] + bytes(name) + query[HEADER + len(name) :]


def believed(asked: bytes, answer: bytes) -> bool:
    """True if a message is the answer to the forwarded query, including the case of letters."""
    if len(answer) < HEADER or answer[:2] != asked[:2] or not answer[2] & 0x80:
        return False
    return question_of(answer) == question_of(asked) is not None


def believed_but_case(asked: bytes, answer: bytes) -> bool:
    """True if a message would be the answer except for the case of letters: some servers answer in lower case."""
    mine, theirs = question_of(asked), question_of(answer)
    if mine is None or theirs is None or answer[:2] != asked[:2] or not answer[2] & 0x80:
        return False
    return mine.lower() == theirs.lower()


def failed(answer: bytes) -> bool:
    """True if a server reports that it failed or refuses: another one may answer (RFC 1035 section 4.1.1)."""
    return len(answer) < HEADER or answer[3] & 0x0F in (dns.rcode.SERVFAIL, dns.rcode.REFUSED, dns.rcode.NOTIMP)


def for_asker(query: bytes, answer: bytes) -> bytes:
    """The answer as the guest expects it: with its own ID and spelling of the name."""
    question = question_of(query) or b""
    return query[:2] + answer[2:HEADER] + question + answer[HEADER + len(question) :]


def key_of(query: bytes) -> bytes:
    """The identity of a query: everything except the ID, the name in lower case."""
    question = question_of(query) or b""
    return query[2:HEADER] + question.lower() + query[HEADER + len(question) :]


def leads_inside(answer: bytes) -> bool:
    """True if a public name is answered with a private address (DNS rebinding): its owner could make a guest contact
    machines of this LAN. Malformed answers count as such."""
    try:
        message = dns.message.from_wire(answer, ignore_trailing=True)
    except (dns.exception.DNSException, ValueError):
        return True
    for question in message.question:
        if any(question.name.is_subdomain(p) for p in (*_PRIVATE_NAMES, *_REVERSE)):
            return False
    # Clients that read an HTTPS record also use its address hints (RFC 9460 section 7.3).
    rows = (data for rrset in (*message.answer, *message.additional) for data in rrset)
    return any(_inside(_embedded(address)) for data in rows for address in _addresses(data))


def _addresses(data: Any) -> Iterator[IPv4Address | IPv6Address]:
    """The addresses in a record: A, AAAA, and the hints of SVCB and HTTPS (RFC 9460 section 7.3)."""
    if data.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
        yield ip_address(data.address)
    elif data.rdtype in (dns.rdatatype.SVCB, dns.rdatatype.HTTPS):
        for key in (ParamKey.IPV4HINT, ParamKey.IPV6HINT):
            hint = data.params.get(key)
            yield from (ip_address(a) for a in (hint.addresses if hint else ()))


def _embedded(address: IPv4Address | IPv6Address) -> IPv4Address | IPv6Address:
    """The IPv4 address embedded in an IPv6 address, if packets to it are translated or tunnelled: mapped, NAT64 (RFC
    6052), 6to4 (RFC 3056)."""
    if isinstance(address, IPv4Address):
        return address
    if address in _NAT64:
        return IPv4Address(address.packed[12:])
    return address.ipv4_mapped or address.sixtofour or address


def _inside(address: IPv4Address | IPv6Address) -> bool:
    """True for addresses of machines on a LAN, or of this host itself (RFC 6890, RFC 8215)."""
    if address in _LOCAL_NAT64:
        return True
    if isinstance(address, IPv4Address):
        first, second = address.packed[0], address.packed[1]
        shared = first == 100 and 64 <= second < 128
        own = first in (0, 10, 127) or (first, second) in ((192, 168), (169, 254))
        return own or shared or (first == 172 and 16 <= second < 32)
    return address.is_link_local or address.is_loopback or address.is_unspecified or address.packed[0] & 0xFE == 0xFC
