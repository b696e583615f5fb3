"""Profiles of the remote desktop client that most Linux desktops include: one key a line, in one section."""

from __future__ import annotations

from dacha.core.plan.doors import endpoint
from dacha.formats.handout.way_in import WayIn


def profile(lab: str, way: WayIn) -> bytes:
    """The profile for one way: SSH, RDP or VNC. It contains no password: the client asks for it."""
    values = {
        "name": way.session,
        "group": lab,
        "protocol": way.service.upper(),
        "server": str(endpoint(way.address, way.port)),
        "username": way.user,
    }
    if way.service == "rdp":
        values |= {"window_width": "1280", "window_height": "800", "colordepth": "99"}
    return "\n".join(["[remmina]", *(f"{key}={value}" for key, value in values.items()), ""]).encode()
