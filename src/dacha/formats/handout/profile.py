"""Profiles of the remote desktop client that most Linux desktops include: one key a line, in one section."""

from __future__ import annotations

from dacha.core.lab.client import Client
from dacha.core.plan.doors import endpoint
from dacha.formats.handout.way_in import WayIn


def profile(lab: str, way: WayIn) -> bytes:
    """The profile for one way: SSH, RDP or VNC. It contains no password: the client asks for it."""
    values = {
        "name": way.session,
        "group": way.client.group or lab,
        "protocol": way.service.upper(),
        "server": str(endpoint(way.address, way.port)),
        "username": way.user,
    }
    if way.service == "rdp":
        values |= _desktop(way.client)
    return "\n".join(["[remmina]", *(f"{key}={value}" for key, value in values.items()), ""]).encode()


def _desktop(client: Client) -> dict[str, str]:
    """The settings of a remote desktop: the client's names for where sound is played differ from ours."""
    values = {"colordepth": "99", "sound": {"client": "local", "guest": "remote", "off": "off"}[client.sound]}
    if client.domain:
        values["domain"] = client.domain
    if client.all_screens:
        values["multimon"] = "1"
    if client.size is None or client.full_screen:
        return {**values, "viewmode": "4"}
    width, height = map(str, client.size)
    return {**values, "window_width": width, "window_height": height}
