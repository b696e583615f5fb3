"""PuTTY's key files, version 3 and 2, with or without a passphrase (PuTTY manual, appendix C "PPK file format")."""

from __future__ import annotations

import base64
import hmac
import struct
from hashlib import sha1, sha256

# Parameters of Argon2id (RFC 9106): memory in KiB and passes, as PuTTY itself uses.
MEMORY_KIB, PASSES, LANES, SALT = 8192, 21, 1, 16


def ppk(
    secret: bytes, public: bytes, comment: str, *, passphrase: str = "", salt: bytes = b"", version: int = 3
) -> str:
    """The file of an Ed25519 key: `secret` and `public` are its 32 bytes each (RFC 8032), `salt` is SALT random bytes
    that version 3 needs with a passphrase. Raises ValueError for another version."""
    if version not in (2, 3):
        raise ValueError(f"unknown PuTTY key file version {version}")
    kind = b"ssh-ed25519"
    public_blob = _string(kind) + _string(public)
    private = _string(secret)
    cipher = "aes256-cbc" if passphrase else "none"
    derived: list[str] = []
    key, start, mac_key = b"", b"", b""
    if version == 3 and passphrase:
        key, start, mac_key = _argon2(passphrase.encode(), salt)
        derived = ["Key-Derivation: Argon2id", f"Argon2-Memory: {MEMORY_KIB}", f"Argon2-Passes: {PASSES}"]
        derived += [f"Argon2-Parallelism: {LANES}", f"Argon2-Salt: {salt.hex()}"]
    elif version == 2:
        secret_text = passphrase.encode()
        key = b"".join(sha1(struct.pack(">I", n) + secret_text).digest() for n in (0, 1))[:32]
        start = bytes(16)
        mac_key = sha1(b"putty-private-key-file-mac-key" + secret_text).digest()
    if passphrase:
        private += sha1(private).digest()[: -len(private) % 16]
    covered = b"".join(map(_string, (kind, cipher.encode(), comment.encode(), public_blob, private)))
    mac = hmac.new(mac_key, covered, sha256 if version == 3 else sha1).hexdigest()
    stored = _encrypt(key, start, private) if passphrase else private
    lines = [f"PuTTY-User-Key-File-{version}: {kind.decode()}", f"Encryption: {cipher}", f"Comment: {comment}"]
    lines += _block("Public-Lines", public_blob) + derived + _block("Private-Lines", stored)
    return "\n".join([*lines, f"Private-MAC: {mac}", ""])


def _string(value: bytes) -> bytes:
    """RFC 4251 section 5."""
    return struct.pack(">I", len(value)) + value


def _block(name: str, blob: bytes) -> list[str]:
    text = base64.b64encode(blob).decode()
    lines = [text[n : n + 64] for n in range(0, len(text), 64)]
    return [f"{name}: {len(lines)}", *lines]


def _argon2(passphrase: bytes, salt: bytes) -> tuple[bytes, bytes, bytes]:
    """The cipher's key, its initialization vector, and the key of the MAC."""
    from cryptography.hazmat.primitives.kdf.argon2 import Argon2id

    made = Argon2id(salt=salt, length=80, iterations=PASSES, lanes=LANES, memory_cost=MEMORY_KIB).derive(passphrase)
    return made[:32], made[32:48], made[48:]


def _encrypt(key: bytes, start: bytes, plain: bytes) -> bytes:
    from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

    encryptor = Cipher(algorithms.AES(key), modes.CBC(start)).encryptor()
    return encryptor.update(plain) + encryptor.finalize()
