"""Questions that are asked of other name servers for guests, and which answers are believed (RFC 5452).

Number, port and the case of the name's letters are drawn afresh for each, and an answer must repeat them all.
"""

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
# Names that are private by their nature (RFC 6761, RFC 6762, RFC 8375, RFC 9476): machines of a LAN answer for them.
_PRIVATE_NAMES = tuple(
    dns.name.from_text(n) for n in ("local", "home.arpa", "internal", "lan", "home", "localdomain", "test", "alt")
)
_NAT64, _LOCAL_NAT64 = IPv6Network("64:ff9b::/96"), IPv6Network("64:ff9b:1::/48")
_REVERSE = (dns.name.from_text("in-addr.arpa"), dns.name.from_text("ip6.arpa"))


def question_of(message: bytes) -> bytes | None:
    """A message's one question as it is in the wire: name, type, class; None for any other number, or damage."""
    if len(message) < HEADER or message[4:6] != b"\0\1":
        return None
    at = HEADER
    while at < len(message) and message[at]:
        if message[at] > 63:  # nothing stands before it that a pointer could lead to
            return None
        at += 1 + message[at]
    end = at + 5
    return message[HEADER:end] if end <= len(message) and at - HEADER < 255 else None


def asked_anew(query: bytes, number: bytes, dice: int) -> bytes | None:
    """A guest's query as it is asked: with another number (two bytes), and each letter of the name in upper or lower
    case as the bits of `dice` have it. None for what is no question."""
    question = question_of(query)
    if question is None:
        return None
    name = bytearray(question[:-4])
    for at, byte in enumerate(name):
        # Lengths are below 64, letters are not.
        if chr(byte).isalpha() and byte < 128:
            name[at] = byte & ~0x20 if dice >> at & 1 else byte | 0x20
    return number + query[2:HEADER] + bytes(name) + query[HEADER + len(name) :]


def believed(asked: bytes, answer: bytes) -> bool:
    """True when a message is an answer to what was asked, letter by letter."""
    if len(answer) < HEADER or answer[:2] != asked[:2] or not answer[2] & 0x80:
        return False
    return question_of(answer) == question_of(asked) is not None


def believed_but_case(asked: bytes, answer: bytes) -> bool:
    """True when a message would be an answer to what was asked, were the letters of its name in the case that was
    drawn: some servers write all names in lower case."""
    mine, theirs = question_of(asked), question_of(answer)
    if mine is None or theirs is None or answer[:2] != asked[:2] or not answer[2] & 0x80:
        return False
    return mine.lower() == theirs.lower()


def failed(answer: bytes) -> bool:
    """True when a server says that it could not or would not find out: another one may (RFC 1035 section 4.1.1)."""
    return len(answer) < HEADER or answer[3] & 0x0F in (dns.rcode.SERVFAIL, dns.rcode.REFUSED, dns.rcode.NOTIMP)


def for_asker(query: bytes, answer: bytes) -> bytes:
    """The answer as the guest expects it: its own number, and its name as it wrote it."""
    question = question_of(query) or b""
    return query[:2] + answer[2:HEADER] + question + answer[HEADER + len(question) :]


def key_of(query: bytes) -> bytes:
    """What makes two queries the same question: all but the number, the name in lower case."""
    question = question_of(query) or b""
    return query[2:HEADER] + question.lower() + query[HEADER + len(question) :]


def leads_inside(answer: bytes) -> bool:
    """True when a name of the internet is answered with an address that is not of the internet: whoever owns the name
    would make a guest ask machines of this LAN in his stead. What cannot be read counts as such."""
    try:
        message = dns.message.from_wire(answer, ignore_trailing=True)
    except (dns.exception.DNSException, ValueError):
        return True
    for question in message.question:
        if any(question.name.is_subdomain(p) for p in (*_PRIVATE_NAMES, *_REVERSE)):
            return False
    # Who reads an HTTPS record takes the addresses beside it too (RFC 9460 section 7.3).
    rows = (data for rrset in (*message.answer, *message.additional) for data in rrset)
    return any(_inside(_embedded(address)) for data in rows for address in _addresses(data))


def _addresses(data: Any) -> Iterator[IPv4Address | IPv6Address]:
    """The addresses that a record names: A, AAAA, and the hints of SVCB and HTTPS (RFC 9460 section 7.3)."""
    if data.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
        yield ip_address(data.address)
    elif data.rdtype in (dns.rdatatype.SVCB, dns.rdatatype.HTTPS):
        for key in (ParamKey.IPV4HINT, ParamKey.IPV6HINT):
            hint = data.params.get(key)
            yield from (ip_address(a) for a in (hint.addresses if hint else ()))


def _embedded(address: IPv4Address | IPv6Address) -> IPv4Address | IPv6Address:
    """The IPv4 address within one of IPv6, where a translator or a tunnel leads there: mapped, NAT64 (RFC 6052), 6to4
    (RFC 3056)."""
    if isinstance(address, IPv4Address):
        return address
    if address in _NAT64:
        return IPv4Address(address.packed[12:])
    return address.ipv4_mapped or address.sixtofour or address


def _inside(address: IPv4Address | IPv6Address) -> bool:
    """True for addresses that machines of a LAN, or this host itself, have (RFC 6890, RFC 8215)."""
    if address in _LOCAL_NAT64:
        return True
    if isinstance(address, IPv4Address):
        first, second = address.packed[0], address.packed[1]
        shared = first == 100 and 64 <= second < 128
        own = first in (0, 10, 127) or (first, second) in ((192, 168), (169, 254))
        return own or shared or (first == 172 and 16 <= second < 32)
    return address.is_link_local or address.is_loopback or address.is_unspecified or address.packed[0] & 0xFE == 0xFC
