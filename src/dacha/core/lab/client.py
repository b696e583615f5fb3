"""How the clients of a door present it: the key `client` of the lab file, for the files of a handout."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from dacha.core.errors import BadValue
from dacha.core.lab import fields
from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from typing import Literal

    from dacha.core.lab.table.reader import Table

    Sound = Literal["client", "guest", "off"]

# Where a session's sound is played.
SOUNDS: tuple[Sound, ...] = ("client", "guest", "off")
FULL_SCREEN = "full-screen"
# The usual size of a window, in pixels.
WINDOW = (1280, 800)
# The services whose clients have a setting.
_CLIENTS_WITH: dict[str, tuple[str, ...]] = {"group": ("ssh", "rdp", "vnc"), **dict.fromkeys(
    ("domain", "size", "all-screens", "sound"), ("rdp",)
)}  # fmt: skip


class Client(NamedTuple):
    """Settings of a client for one door. `group` is the name of its list there ("": the lab's name), `domain` that of
    the user's account, `size` the window's in pixels (None: the whole screen); `all_screens` covers each monitor."""

    group: str = ""
    domain: str = ""
    size: tuple[int, int] | None = WINDOW
    all_screens: bool = False
    sound: Sound = "client"

    @property
    def full_screen(self) -> bool:
        """True without a window: on one screen, or on all."""
        return self.size is None or self.all_screens


def read_client(t: Table, service: str | None) -> Client:
    """The settings in table `t`, of a door with this service; errors become findings."""
    usual = Client()
    read = Client(
        group=t.take("group", fields.text, usual.group),
        domain=t.take("domain", _domain, usual.domain),
        size=t.take("size", _size, usual.size),
        all_screens=t.take("all-screens", fields.flag, usual.all_screens),
        sound=t.take("sound", fields.choice(*SOUNDS), usual.sound),
    )
    for key in t.data:
        of = _CLIENTS_WITH.get(key)
        if of and service not in of:
            t.wrong(key, "misplaced", f"the door's service must be one of: {', '.join(of)}", "remove it")
    if read.all_screens and isinstance(t.data.get("size"), str) and read.size is not None:
        t.wrong("size", "conflict", "a window of this size cannot cover all screens", "remove size, or all-screens")
    t.finish()
    return read


def _domain(value: object) -> str:
    """A domain of accounts: a DNS name, or its first label."""
    if isinstance(value, str) and re.fullmatch(r"[A-Za-z0-9]([A-Za-z0-9.-]{0,252}[A-Za-z0-9])?", value):
        return value
    raise BadValue(f"{value!r} is not the name of a domain", 'write letters, digits, "-" and "."')


def _size(value: object) -> tuple[int, int] | None:
    """A window's size in pixels; None for "full-screen"."""
    try:
        return None if value == FULL_SCREEN else fields.resolution(value)
    except BadValue as e:
        raise BadValue(e.what, f'{e.remedy}, or "{FULL_SCREEN}"') from None
