"""Messages of UPnP's Internet Gateway Device: the router's description with its control URL, and the actions sent to
that (UPnP Device Architecture 2.0 sections 2 and 3; WANIPConnection:2 sections 2.5 and 2.6).

Only ports and paths are taken from the router: the address is always the router's own, and no text of the router is
parsed as a URL again.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from xml.etree import ElementTree
from xml.sax.saxutils import escape

from dacha.core.errors import AnswerNo, PeerError
from dacha.core.named import NamedTuple

# The services for port mappings, the best first.
SERVICES = tuple(
    f"urn:schemas-upnp-org:service:{name}" for name in ("WANIPConnection:2", "WANIPConnection:1", "WANPPPConnection:1")
)
# An upper limit for a description or an answer.
MOST = 256 << 10
# Error codes of the services (WANIPConnection:2 section 2.6).
NO_SUCH_ENTRY, CONFLICT, ONLY_PERMANENT = 714, 718, 725
_PATH = re.compile(r"/[\x21-\x7e]*")


class Place(NamedTuple):
    """An address on the router: a TCP port, and a path that begins with a slash."""

    port: int
    path: str


class Control(NamedTuple):
    """A service of the router, and its control address."""

    service: str
    place: Place


class Refused(AnswerNo):
    """The router answered with this error number."""

    def __init__(self, number: int, words: str) -> None:
        super().__init__(f"it refused: {words or 'error'} ({number})")
        self.number = number


_ROOT = Place(80, "/")


def place_of(url: str, router: str, base: Place = _ROOT) -> Place:
    """The address in a URL of the router; a relative one is below `base`. Raises PeerError for anything but
    `http://ROUTER[:PORT]/path` with the router's own address, or a path."""
    absolute = re.fullmatch(rf"http://{re.escape(router)}(?::(\d{{1,5}}))?(/[\x21-\x7e]*)?", url)
    if absolute:
        port = int(absolute[1] or 80)
        if not 1 <= port <= 65535:
            raise PeerError(f"the router's description is at port {port}")
        return Place(port, absolute[2] or "/")
    path = url if url.startswith("/") else base.path[: base.path.rindex("/") + 1] + url
    if ":" in url.partition("/")[0] or url.startswith("//") or not _PATH.fullmatch(path):
        raise PeerError("the router's description is at another address")
    return Place(base.port, path)


def controls(description: bytes, router: str, base: Place) -> list[Control]:
    """The services for port mappings in a description, the best first. Raises PeerError."""
    root = _tree(description)
    found = []
    for element in root.iter():
        if _name(element) == "URLBase" and element.text and element.text.strip():
            base = place_of(element.text.strip(), router, base)
    for element in root.iter():
        if _name(element) == "service":
            rows = {_name(child): (child.text or "").strip() for child in element}
            if rows.get("serviceType") in SERVICES and rows.get("controlURL"):
                found.append(Control(rows["serviceType"], place_of(rows["controlURL"], router, base)))
    return sorted(found, key=lambda control: SERVICES.index(control.service))


def get(router: str, place: Place) -> bytes:
    """The request for the description."""
    return f"GET {place.path} HTTP/1.1\r\nHost: {router}:{place.port}\r\nConnection: close\r\n\r\n".encode()


def action(router: str, control: Control, name: str, arguments: Mapping[str, object]) -> bytes:
    """The request for one action of a service, with its arguments in order."""
    inside = "".join(f"<{key}>{escape(str(value))}</{key}>" for key, value in arguments.items())
    body = (
        '<?xml version="1.0"?><s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"'
        ' s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"><s:Body>'
        f'<u:{name} xmlns:u="{control.service}">{inside}</u:{name}></s:Body></s:Envelope>'
    ).encode()
    head = (
        f"POST {control.place.path} HTTP/1.1\r\nHost: {router}:{control.place.port}\r\nConnection: close\r\n"
        f'Content-Type: text/xml; charset="utf-8"\r\nSOAPAction: "{control.service}#{name}"\r\n'
        f"Content-Length: {len(body)}\r\n\r\n"
    )
    return head.encode() + body


def answer(status: int, body: bytes) -> dict[str, str]:
    """The results of an action, by argument. Raises Refused, PeerError."""
    if status not in (200, 500):
        raise Refused(status, "HTTP")
    rows = {_name(element): (element.text or "").strip() for element in _tree(body).iter() if not len(element)}
    if status == 500 or "errorCode" in rows:
        code = rows.get("errorCode", "")
        raise Refused(int(code) if code.isdigit() else 501, rows.get("errorDescription", "")[:80])
    return rows


def _tree(data: bytes) -> ElementTree.Element:
    """The root of a document without document type declarations, which attacks use and these messages do not."""
    if len(data) > MOST or b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise PeerError("the router's answer is too large, or declares a document type")
    try:
        return ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError, LookupError) as e:
        raise PeerError("the router's answer is not XML", why=str(e)) from None


def _name(element: ElementTree.Element) -> str:
    return element.tag.rpartition("}")[2] if isinstance(element.tag, str) else ""
