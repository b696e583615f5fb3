"""Whether anything was ever written to a disk."""

from __future__ import annotations

from pathlib import Path

from dacha.core.errors import PeerError
from dacha.formats.disk.qcow2 import HEAD, decode, first_table

# The longest table that is looked through (bytes): that of a disk of 32 TiB.
TABLE_MOST = 512 << 10


def is_blank(path: Path) -> bool:
    """True for a qcow2 disk without a backing image that nothing was ever written to; False for any other, and for one
    that is not readable."""
    try:
        with path.open("rb") as f:
            head = f.read(HEAD)
            image = decode(head)
            if image is None or image.backing is not None:
                return False
            offset, length = first_table(head)
            f.seek(offset)
            table = f.read(min(length, TABLE_MOST))
    except (OSError, PeerError):
        return False
    return 0 < length == len(table) and not any(table)
