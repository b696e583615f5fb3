"""SHA-256 for names and digests (FIPS 180-4). Uses the interpreter's small built-in module, like its `random` does: the
public one loads a whole cryptographic library, which would cost every command 4 ms."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from hashlib import sha256
else:
    try:
        from _sha2 import sha256  # from Python 3.12 on
    except ImportError:
        try:
            from _sha256 import sha256
        except ImportError:
            from hashlib import sha256

__all__ = ["sha256"]
