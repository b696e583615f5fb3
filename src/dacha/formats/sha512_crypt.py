"""Password hashes as Linux stores them: SHA-512 in the format $6$SALT$HASH (crypt(5); U. Drepper, Unix crypt using
SHA-256 and SHA-512, version 0.6). The standard library has no function for it from Python 3.13 on."""

from __future__ import annotations

from hashlib import sha512

ROUNDS = 5000
_DIGITS = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
SALT_MOST = 16


def sha512_crypt(password: bytes, salt: str) -> str:
    """The hash of a password with a salt of at most 16 of the characters ./0-9A-Za-z."""
    if not 0 < len(salt) <= SALT_MOST or any(c not in _DIGITS for c in salt):
        raise ValueError("a salt has 1 to 16 of the characters ./0-9A-Za-z")
    s, size = salt.encode(), len(password)
    mixed = sha512(password + s + password).digest()
    first = password + s + _repeated(mixed, size)
    bits = size
    while bits:
        first += mixed if bits & 1 else password
        bits >>= 1
    c = sha512(first).digest()
    p = _repeated(sha512(password * size).digest(), size)
    q = _repeated(sha512(s * (16 + c[0])).digest(), len(s))
    for n in range(ROUNDS):
        odd = n & 1
        text = (p if odd else c) + (q if n % 3 else b"") + (p if n % 7 else b"") + (c if odd else p)
        c = sha512(text).digest()
    return f"$6${salt}${_encoded(c)}"


def _repeated(piece: bytes, size: int) -> bytes:
    return (piece * (size // len(piece) + 1))[:size]


def _encoded(digest: bytes) -> str:
    """Three bytes at a time, in the specification's order, in four digits of six bits, the lowest first."""
    out = []
    a, b, c = 0, 21, 42
    for _ in range(21):
        out.append(_number((digest[a] << 16) | (digest[b] << 8) | digest[c], 4))
        a, b, c = b + 1, c + 1, a + 1
    out.append(_number(digest[63], 2))
    return "".join(out)


def _number(value: int, digits: int) -> str:
    return "".join(_DIGITS[(value >> (6 * n)) & 63] for n in range(digits))
