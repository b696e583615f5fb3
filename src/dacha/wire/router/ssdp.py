"""Finding a router that speaks UPnP: the search and the answer (UPnP Device Architecture 2.0, section 1.3)."""

from __future__ import annotations

import re

GROUP, PORT = "239.255.255.250", 1900
# Gateways of both versions, and whatever calls itself a root device; the answer's own words are read no further.
TARGETS = (
    "urn:schemas-upnp-org:device:InternetGatewayDevice:1",
    "urn:schemas-upnp-org:device:InternetGatewayDevice:2",
    "upnp:rootdevice",
)
ANSWER_MOST = 2048


def search(target: str, seconds: int = 1) -> bytes:
    """The question to everybody on the LAN."""
    lines = ("M-SEARCH * HTTP/1.1", f"HOST: {GROUP}:{PORT}", 'MAN: "ssdp:discover"', f"MX: {seconds}", f"ST: {target}")
    return "\r\n".join((*lines, "", "")).encode()


def location(answer: bytes, router: str) -> str | None:
    """Where the router's description is; None for an answer that names another machine's, or none."""
    if len(answer) > ANSWER_MOST or not answer.startswith(b"HTTP/1.1 200"):
        return None
    for line in answer.split(b"\r\n")[1:]:
        name, _, value = line.partition(b":")
        if name.strip().lower() == b"location":
            text = value.strip().decode("ascii", "replace")
            return text if re.match(rf"http://{re.escape(router)}(?::\d{{1,5}})?(?:/|$)", text) else None
    return None
