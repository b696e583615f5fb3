"""PuTTY's files of a handout: a registry file with a saved session for each way, and the host keys in PuTTY's format
(PuTTY manual: 4.2 "Using PuTTY's configuration in the Registry"; the format of cached keys from its source)."""

from __future__ import annotations

import base64
import binascii
import struct
from collections.abc import Iterable

from dacha.formats.handout.way_in import WayIn

_ROOT = r"HKEY_CURRENT_USER\Software\SimonTatham\PuTTY"
# The curve of Ed25519 (RFC 8032 section 5.1): the field's prime, the curve's constant, a square root of -1.
_P = 2**255 - 19
_D = -121665 * pow(121666, _P - 2, _P) % _P
_ROOT_OF_MINUS_1 = pow(2, (_P - 1) // 4, _P)


def cached_key(way: WayIn) -> tuple[str, str] | None:
    """A host key in PuTTY's cache: the value's name ("ssh-ed25519@PORT:ADDRESS") and the point's coordinates; None for
    a key of another type, or none."""
    try:
        blob = base64.b64decode(way.host_key.split()[1], validate=True)
    except (IndexError, binascii.Error):
        return None
    if not blob.startswith(b"\0\0\0\x0bssh-ed25519\0\0\0\x20") or len(blob) != 51:
        return None
    point = _point(blob[-32:])
    if point is None:
        return None
    x, y = point
    return f"ssh-ed25519@{way.port}:{way.address}", f"0x{x:x},0x{y:x}"


def _point(encoded: bytes) -> tuple[int, int] | None:
    """The coordinates of an encoded point (RFC 8032 section 5.1.3); None for an invalid point."""
    number = int.from_bytes(encoded, "little")
    sign, y = number >> 255, number & (1 << 255) - 1
    square = (y * y - 1) * pow(_D * y * y + 1, _P - 2, _P) % _P
    x = pow(square, (_P + 3) // 8, _P)
    if (x * x - square) % _P:
        x = x * _ROOT_OF_MINUS_1 % _P
    if (x * x - square) % _P:
        return None
    return (_P - x if x & 1 != sign else x), y


def registry_file(lab: str, ways: Iterable[WayIn]) -> bytes | None:
    """The .reg file to import on Windows, in UTF-16 with a byte order mark; None without an SSH way."""
    mine = [w for w in ways if w.service == "ssh"]
    if not mine:
        return None
    lines = ["Windows Registry Editor Version 5.00", ""]
    keys = dict(found for w in mine if (found := cached_key(w)))
    if keys:
        lines += [rf"[{_ROOT}\SshHostKeys]", *(f'"{name}"="{value}"' for name, value in keys.items()), ""]
    for w in mine:
        lines += [rf"[{_ROOT}\Sessions\{lab}%20{w.session}]", '"Present"=dword:00000001', '"Protocol"="ssh"']
        lines += [f'"HostName"="{w.address}"', f'"PortNumber"=dword:{struct.pack(">I", w.port).hex()}']
        lines += [f'"UserName"="{w.user}"'] if w.user else []
        lines.append("")
    return b"\xff\xfe" + "\r\n".join(lines).encode("utf-16-le")
