"""Questions that are asked of other name servers for guests, and which answers are believed (RFC 5452).

Number, port and the case of the name's letters are drawn afresh for each, and an answer must repeat them all.
"""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address, ip_address

import dns.exception
import dns.message
import dns.name
import dns.rdatatype

HEADER = 12
# Names that are private by their nature (RFC 6761, RFC 6762, RFC 8375, RFC 9476): machines of a LAN answer for them.
_PRIVATE_NAMES = tuple(
    dns.name.from_text(n) for n in ("local", "home.arpa", "internal", "lan", "home", "localdomain", "test", "alt")
)
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
        if len(question.name) < 3 or any(question.name.is_subdomain(p) for p in (*_PRIVATE_NAMES, *_REVERSE)):
            return False  # one word alone, or a private name
    for rrset in message.answer:
        if rrset.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
            for data in rrset:
                address = ip_address(data.address)
                if _inside(getattr(address, "ipv4_mapped", None) or address):
                    return True
    return False


def _inside(address: IPv4Address | IPv6Address) -> bool:
    """True for addresses that machines of a LAN, or this host itself, have (RFC 6890)."""
    if isinstance(address, IPv4Address):
        first, second = address.packed[0], address.packed[1]
        shared = first == 100 and 64 <= second < 128
        own = first in (0, 10, 127) or (first, second) in ((192, 168), (169, 254))
        return own or shared or (first == 172 and 16 <= second < 32)
    return address.is_link_local or address.is_loopback or address.is_unspecified or address.packed[0] & 0xFE == 0xFC
