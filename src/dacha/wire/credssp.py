"""Messages of CredSSP, with which an RDP server checks a password before the session starts (MS-CSSP section 2.2.1).

A TSRequest is a DER sequence (ITU-T X.690) of optional fields, each with a tag of its own number.
"""

from __future__ import annotations

import hashlib

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

# The newest version; a server answers with its own (section 2.2.1, version).
VERSION = 6
# From this version on, the server's key is sent as a hash with a nonce (section 3.1.5).
HASHED_FROM = 5
_CLIENT, _SERVER = b"CredSSP Client-To-Server Binding Hash\0", b"CredSSP Server-To-Client Binding Hash\0"
_INTEGER, _OCTETS, _SEQUENCE, _FIELD = 0x02, 0x04, 0x30, 0xA0
# An upper limit for a server's message.
LONGEST = 1 << 16


class TsRequest(NamedTuple):
    """One message: its version, the inner authentication token (b"" for none), the bound public key of the server, an
    error (NTSTATUS), the client's nonce."""

    version: int = VERSION
    token: bytes = b""
    key: bytes = b""
    error: int = 0
    nonce: bytes = b""

    def encoded(self) -> bytes:
        body = _field(0, _tlv(_INTEGER, bytes([self.version])))
        if self.token:
            body += _field(1, _tlv(_SEQUENCE, _tlv(_SEQUENCE, _field(0, _tlv(_OCTETS, self.token)))))
        if self.key:
            body += _field(3, _tlv(_OCTETS, self.key))
        if self.error:
            body += _field(4, _tlv(_INTEGER, self.error.to_bytes(5, "big")))
        if self.nonce:
            body += _field(5, _tlv(_OCTETS, self.nonce))
        return _tlv(_SEQUENCE, body)


def read_message(data: bytes) -> tuple[TsRequest, int] | None:
    """The first message in `data` and its length; None if it is incomplete. Raises PeerError for anything else."""
    whole = _read(data, 0, _SEQUENCE)
    if whole is None:
        return None
    body, end = whole
    found, at = TsRequest(version=0), 0
    while at < len(body):
        number = body[at] - _FIELD
        inner, at = _whole(body, at, body[at])
        if number == 0:
            found = found._replace(version=int.from_bytes(_whole(inner, 0, _INTEGER)[0], "big"))
        elif number == 1:
            one = _whole(_whole(_whole(inner, 0, _SEQUENCE)[0], 0, _SEQUENCE)[0], 0, _FIELD)[0]
            found = found._replace(token=_whole(one, 0, _OCTETS)[0])
        elif number == 3:
            found = found._replace(key=_whole(inner, 0, _OCTETS)[0])
        elif number == 4:
            found = found._replace(error=int.from_bytes(_whole(inner, 0, _INTEGER)[0], "big") & 0xFFFFFFFF)
        elif number == 5:
            found = found._replace(nonce=_whole(inner, 0, _OCTETS)[0])
    return found, end


def bound_key(version: int, public_key: bytes, nonce: bytes, *, by_server: bool = False) -> bytes:
    """The value that is encrypted to prove that both ends use the same server key: the key itself, or from version 5 on
    a hash of it with the client's nonce (section 3.1.5)."""
    if version < HASHED_FROM:
        # The server's answer is the key with its first byte incremented.
        return bytes([(public_key[0] + 1) & 0xFF, *public_key[1:]]) if by_server else public_key
    return hashlib.sha256((_SERVER if by_server else _CLIENT) + nonce + public_key).digest()


def _tlv(tag: int, body: bytes) -> bytes:
    if len(body) < 0x80:
        return bytes([tag, len(body)]) + body
    length = len(body).to_bytes((len(body).bit_length() + 7) // 8, "big")
    return bytes([tag, 0x80 | len(length)]) + length + body


def _field(number: int, inner: bytes) -> bytes:
    return _tlv(_FIELD + number, inner)


def _read(data: bytes, at: int, tag: int) -> tuple[bytes, int] | None:
    """The contents of an element and the offset after it; None if it is incomplete."""
    if len(data) < at + 2:
        return None
    if data[at] != tag:
        raise PeerError("its answer is not a CredSSP message")
    length, begin = data[at + 1], at + 2
    if length & 0x80:
        count = length & 0x7F
        if not 1 <= count <= 4:
            raise PeerError("its answer has an invalid length")
        if len(data) < begin + count:
            return None
        length, begin = int.from_bytes(data[begin : begin + count], "big"), begin + count
    if length > LONGEST:
        raise PeerError("its answer is too long for CredSSP")
    return (data[begin : begin + length], begin + length) if len(data) >= begin + length else None


def _whole(data: bytes, at: int, tag: int) -> tuple[bytes, int]:
    found = _read(data, at, tag)
    if found is None:
        raise PeerError("its answer is truncated")
    return found
