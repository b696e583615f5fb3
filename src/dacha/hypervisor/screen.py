"""A guest's screen through the hypervisor: a picture of it, its text, keys typed on it, and its VNC listener."""

from __future__ import annotations

import struct
import time
from pathlib import Path

from dacha.core.errors import NoError
from dacha.hypervisor.command_line import SCREEN
from dacha.hypervisor.keyboard import Chord
from dacha.hypervisor.qmp import Qmp

# The VGA text buffer: 25 rows of 80 cells, a character and its colours each (IBM VGA, mode 3).
_TEXT_AT, _COLUMNS, _ROWS = 0xB8000, 80, 25
# A text-mode screen is drawn with glyphs of 9 by 16 dots (8 on some adapters).
_TEXT_SIZES = ((720, 400), (640, 400))
# The VNC protocol's own authentication counts this many characters (RFC 6143 section 7.2.2).
PASSWORD_LENGTH = 8
# Where a display listens for whom.
ADDRESSES = {"host": "127.0.0.1", "lan": "0.0.0.0"}


def picture(qmp: Qmp, path: Path) -> tuple[int, int]:
    """Save a picture of the screen as PNG; its width and height in dots."""
    qmp.execute("screendump", {"filename": str(path), "format": "png"})
    head = path.read_bytes()[:24]
    return struct.unpack(">II", head[16:24])


def text(qmp: Qmp, scratch: Path) -> list[str]:
    """The rows of a text-mode screen. Raises NoError in a graphics mode, whose dots are no text.

    `scratch` is a file that QEMU may write; it is removed.
    """
    try:
        if picture(qmp, scratch) not in _TEXT_SIZES:
            raise NoError(
                "the screen is in a graphics mode, which has no text", remedy="take a picture: --save FILE.png"
            )
        qmp.execute("pmemsave", {"val": _TEXT_AT, "size": _COLUMNS * _ROWS * 2, "filename": str(scratch)})
        cells = scratch.read_bytes()
    finally:
        scratch.unlink(missing_ok=True)
    rows = []
    for n in range(_ROWS):
        characters = cells[n * _COLUMNS * 2 : (n + 1) * _COLUMNS * 2 : 2].replace(b"\0", b" ")
        line = characters.decode("cp437")
        rows.append("".join(c if c.isprintable() else " " for c in line).rstrip())
    while rows and not rows[-1]:
        rows.pop()
    return rows


def press(qmp: Qmp, chords: list[Chord], pause_s: float = 0.04) -> None:
    """Press keys one after the other, each chord's keys together. The pause lets a slow guest keep up."""
    for chord in chords:
        qmp.execute("send-key", {"keys": [{"type": "qcode", "data": code} for code in chord], "hold-time": 20})
        time.sleep(pause_s)


def set_password(qmp: Qmp, password: str) -> None:
    """Set the display's password; it is told over the monitor only, and kept nowhere."""
    qmp.execute("set_password", {"protocol": "vnc", "password": password[:PASSWORD_LENGTH]})


def listen(qmp: Qmp, origin: str | None, port: int | None) -> None:
    """Let the display listen on TCP for `origin` ("host" or "lan"), or again only on its UNIX socket. Replaces what
    was before. Raises HostError when the port cannot be had."""
    where: dict[str, str] = {"type": "unix", "path": SCREEN}
    if origin:
        where = {"type": "inet", "host": ADDRESSES[origin], "port": str(port)}
    qmp.execute("display-update", {"type": "vnc", "addresses": [where]})
