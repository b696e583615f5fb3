"""Detached OpenPGP signatures (RFC 9580 section 10.4), verified by gpgv against a single file of keys."""

from __future__ import annotations

import base64
import binascii
import re
import tempfile
from pathlib import Path

from dacha.core.errors import AnswerNo, HostError, UsageError
from dacha.core.harmless import harmless
from dacha.host.bounded import run_bounded
from dacha.host.facts import program

LIMIT_S = 30.0
_ARMOUR = re.compile(
    r"-----BEGIN PGP [A-Z ]+-----\r?\n(?:[^\n]*: [^\n]*\n)*\r?\n([A-Za-z0-9+/=\s]+?)(?:\n=[\w+/]{4})?\s*-----END"
)


def check_signature(signed: bytes, signature: bytes, keys: Path) -> str:
    """The signer, in gpgv's words. Raises AnswerNo for a signature by another key, UsageError for unreadable keys,
    HostError without the program."""
    found = program("gpgv")
    if found is None:
        raise HostError("gpgv is not installed: it checks signatures", remedy="on Debian: apt install gpgv")
    try:
        ring = _bare(keys.read_bytes())
    except OSError as e:
        raise UsageError(f"the keys cannot be read: {e.strerror}", where=str(keys)) from e
    with tempfile.TemporaryDirectory(prefix="dacha-signature-") as folder:
        for name, data in (("keys.gpg", ring), ("signature", _bare(signature)), ("signed", signed)):
            (Path(folder) / name).write_bytes(data)
        said = run_bounded(
            [found, "--homedir", folder, "--keyring", f"{folder}/keys.gpg", f"{folder}/signature", f"{folder}/signed"],
            LIMIT_S,
        )
    words = [harmless(line.removeprefix("gpgv: ")) for line in said.text.splitlines() if line.strip()]
    if said.code != 0:
        raise AnswerNo("none of these keys made the signature", where=str(keys), why="\n".join(words[-2:]))
    return next((w for w in words if w.startswith("Good signature")), "Good signature")


def _bare(data: bytes) -> bytes:
    """Remove the ASCII armour (RFC 9580 section 6), if any."""
    text = data.decode("ascii", "replace")
    parts = _ARMOUR.findall(text)
    try:
        return b"".join(base64.b64decode(re.sub(r"\s", "", part), validate=True) for part in parts) if parts else data
    except binascii.Error:
        return data
