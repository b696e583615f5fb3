"""Discovery of a UPnP router: search and answer (UPnP Device Architecture 2.0, section 1.3)."""

from __future__ import annotations

import re

GROUP, PORT = "239.255.255.250", 1900
# Gateways of both versions, and root devices; the rest of an answer is ignored.
TARGETS = (
    "urn:schemas-upnp-org:device:InternetGatewayDevice:1",
    "urn:schemas-upnp-org:device:InternetGatewayDevice:2",
    "upnp:rootdevice",
)
ANSWER_MOST = 2048


def search(target: str, seconds: int = 1) -> bytes:
    """The multicast search on the LAN."""
    lines = ("M-SEARCH * HTTP/1.1", f"HOST: {GROUP}:{PORT}", 'MAN: "ssdp:discover"', f"MX: {seconds}", f"ST: {target}")
    return "\r\n".join((*lines, "", "")).encode()


def location(answer: bytes, router: str) -> str | None:
    """The URL of the router's description; None for an answer with another machine's URL, or none."""
    if len(answer) > ANSWER_MOST or not answer.startswith(b"HTTP/1.1 200"):
        return None
    for line in answer.split(b"\r\n")[1:]:
        name, _, value = line.partition(b":")
        if name.strip().lower() == b"location":
            text = value.strip().decode("ascii", "replace")
            return text if re.match(rf"http://{re.escape(router)}(?::\d{{1,5}})?(?:/|$)", text) else None
    return None
