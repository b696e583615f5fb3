"""Remote desktop's connection files: one setting a line, `name:type:value`, as its clients read them."""

from __future__ import annotations

from dacha.core.plan.doors import place
from dacha.formats.handout.way_in import WayIn


def rdp_file(way: WayIn) -> bytes:
    """The file for one way; it asks for the password, and warns where the certificate is not trusted."""
    settings: list[tuple[str, str | int]] = [
        ("full address", place(way.address, way.port)),
        ("username", way.user),
        ("prompt for credentials", 1),
        ("authentication level", 2),
        ("enablecredsspsupport", 1),
        ("screen mode id", 1),
        ("desktopwidth", 1280),
        ("desktopheight", 800),
        ("dynamic resolution", 1),
        ("redirectclipboard", 1),
    ]
    lines = [f"{key}:{'s' if isinstance(value, str) else 'i'}:{value}" for key, value in settings if value != ""]
    return "\r\n".join([*lines, ""]).encode()
