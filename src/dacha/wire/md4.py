"""MD4 (RFC 1320): broken as a hash, but required for the password hashes of SMB servers (MS-NLMP section 3.3.1,
NTOWFv1)."""

from __future__ import annotations

import struct
from collections.abc import Callable

_ALL = 0xFFFFFFFF
# The rounds' functions and constants, the order of words in each, and the rotation of each step (section 3.4).
_ROUNDS: tuple[tuple[Callable[[int, int, int], int], int, tuple[int, ...], tuple[int, ...]], ...] = (
    (lambda x, y, z: (x & y) | (~x & z), 0, tuple(range(16)), (3, 7, 11, 19)),
    (lambda x, y, z: (x & y) | (x & z) | (y & z), 0x5A827999, tuple(r + c for r in range(4) for c in (0, 4, 8, 12)),
     (3, 5, 9, 13)),
    (lambda x, y, z: x ^ y ^ z, 0x6ED9EBA1, (0, 8, 4, 12, 2, 10, 6, 14, 1, 9, 5, 13, 3, 11, 7, 15), (3, 9, 11, 15)),
)  # fmt: skip


def md4(message: bytes) -> bytes:
    """The digest, 16 bytes."""
    padded = message + b"\x80" + bytes(-(len(message) + 9) % 64) + struct.pack("<Q", 8 * len(message))
    state = [0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476]
    for at in range(0, len(padded), 64):
        words = struct.unpack("<16I", padded[at : at + 64])
        a, b, c, d = state
        for function, constant, order, turns in _ROUNDS:
            for step, k in enumerate(order):
                turned = (a + (function(b, c, d) & _ALL) + words[k] + constant) & _ALL
                by = turns[step % 4]
                a, b, c, d = d, ((turned << by) | (turned >> (32 - by))) & _ALL, b, c
        state = [(old + new) & _ALL for old, new in zip(state, (a, b, c, d), strict=True)]
    return struct.pack("<4I", *state)


def password_hash(password: str) -> str:
    """A server's password hash, in upper-case hexadecimal digits."""
    return md4(password.encode("utf-16-le")).hex().upper()
