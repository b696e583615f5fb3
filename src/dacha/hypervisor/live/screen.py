"""A guest's screen through the hypervisor: a picture, its text, keys, and its VNC listener."""

from __future__ import annotations

import os
import struct
import time
from pathlib import Path

from dacha.core.errors import AnswerNo, HostError
from dacha.hypervisor.command_line import SCREEN
from dacha.hypervisor.live.keyboard import Chord
from dacha.hypervisor.monitor.qmp import Qmp

# The VGA text buffer: 25 rows of 80 cells, a character and its colours each (IBM VGA, mode 3).
_TEXT_AT, _COLUMNS, _ROWS = 0xB8000, 80, 25
# A text-mode screen is drawn with glyphs of 9 by 16 pixels (8 on some adapters).
_TEXT_SIZES = ((720, 400), (640, 400))
# The VNC protocol's own authentication uses this many characters (RFC 6143 section 7.2.2).
PASSWORD_LENGTH = 8
# The listen address of a display, by origin.
ADDRESSES = {"host": "127.0.0.1", "lan": "0.0.0.0"}


def picture(qmp: Qmp, run: Path) -> tuple[bytes, int, int]:
    """A picture of the screen as PNG, its width and height in pixels. `run` is the guest's run folder."""
    found = _written(qmp, run, "screendump", {"format": "png"})
    return found, *struct.unpack(">II", found[16:24])


def _written(qmp: Qmp, run: Path, command: str, arguments: dict[str, object]) -> bytes:
    """A file that QEMU writes, in its run folder only. Raises AnswerNo if there is none."""
    scratch = run / "scratch"
    try:
        qmp.execute(command, arguments | {"filename": scratch.name})
        # A link there could only come from the guest's process, and point to another's file.
        with open(os.open(scratch, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC), "rb") as f:
            return f.read()
    except OSError as e:
        raise AnswerNo("the picture of the screen is invalid", why=e.strerror or str(e)) from e
    finally:
        scratch.unlink(missing_ok=True)


def text(qmp: Qmp, run: Path) -> list[str]:
    """The rows of a text-mode screen. Raises AnswerNo in a graphics mode."""
    if picture(qmp, run)[1:] not in _TEXT_SIZES:
        raise AnswerNo("the screen is in a graphics mode, which has no text", remedy="take a picture: --save FILE.png")
    cells = _written(qmp, run, "pmemsave", {"val": _TEXT_AT, "size": _COLUMNS * _ROWS * 2})
    rows = []
    for n in range(_ROWS):
        characters = cells[n * _COLUMNS * 2 : (n + 1) * _COLUMNS * 2 : 2].replace(b"\0", b" ")
        line = characters.decode("cp437")
        rows.append("".join(c if c.isprintable() else " " for c in line).rstrip())
    while rows and not rows[-1]:
        rows.pop()
    return rows


def press(qmp: Qmp, chords: list[Chord], pause_s: float = 0.04) -> None:
    """Press keys one after the other, the keys of a chord together. The pause is for slow guests."""
    for chord in chords:
        qmp.execute("send-key", {"keys": [{"type": "qcode", "data": code} for code in chord], "hold-time": 20})
        time.sleep(pause_s)


def set_password(qmp: Qmp, password: str) -> None:
    """Set the display's password; it is sent over the monitor only, and not stored."""
    qmp.execute("set_password", {"protocol": "vnc", "password": password[:PASSWORD_LENGTH]})


def listen(qmp: Qmp, origin: str | None, port: int | None) -> None:
    """Let the display listen on TCP for `origin` ("host" or "lan") besides its UNIX socket, or on the socket only.
    Replaces the former setting. Raises HostError if the port is not available; then only the socket is left."""
    own = {"type": "unix", "path": SCREEN}
    places = [own, {"type": "inet", "host": ADDRESSES[origin], "port": str(port)}] if origin else [own]
    try:
        qmp.execute("display-update", {"type": "vnc", "addresses": places})
    except HostError:
        # It has closed all listeners by now.
        qmp.execute("display-update", {"type": "vnc", "addresses": [own]})
        raise
