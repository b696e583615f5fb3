"""The part of HTTP/1.1 that firmware needs to download files: GET and HEAD, a single range (RFC 9112; RFC 9110 section
14)."""

from __future__ import annotations

import re

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

PORT = 80
# An upper limit for a firmware's request with all header fields (bytes).
HEAD_MOST = 8 << 10
_REASONS = {
    200: "OK", 206: "Partial Content", 400: "Bad Request", 404: "Not Found", 405: "Method Not Allowed",
    416: "Range Not Satisfiable", 431: "Request Header Fields Too Large", 503: "Service Unavailable",
    505: "HTTP Version Not Supported",
}  # fmt: skip
# The media types by which firmware distinguishes a program from a disk (UEFI specification 2.10, section 24.7.2.3);
# else it uses the file name's extension.
_KINDS = {".efi": "application/efi", ".iso": "application/vnd.efi-iso", ".img": "application/vnd.efi-img"}
_LINE = re.compile(r"(?P<method>[A-Z]{1,16}) (?P<target>\S{1,4096}) HTTP/(?P<version>\d\.\d)\Z")
_FIELD = re.compile(r"(?P<name>[!#$%&'*+.^_`|~0-9A-Za-z-]+):[ \t]*(?P<value>[\t -~\x80-\xff]*?)[ \t]*\Z")
_PLAIN = re.compile(r"[A-Za-z0-9._~/-]")
_RANGE = re.compile(r"bytes=(?:(?P<first>\d{1,18})-(?P<last>\d{0,18})|-(?P<end>\d{1,18}))\Z")


class Refused(PeerError):
    """A request that is refused, with its status (RFC 9110 section 15)."""

    def __init__(self, status: int, what: str, size: int | None = None) -> None:
        """`size` is the file's size, if the requested range is not in it."""
        super().__init__(what)
        self.status, self.size = status, size


class Request(NamedTuple):
    """A request: a path without the leading slash, the first and last byte (`first` None with `last` set: that many
    from the end), whether only the head is requested, and whether the connection stays open."""

    path: str
    first: int | None
    last: int | None
    head: bool
    goes_on: bool


def decode_request(data: bytes) -> Request:
    """The request in a head, up to and including its empty line. Raises Refused."""
    lines = data.decode("latin-1").removesuffix("\r\n\r\n").split("\r\n")
    line = _LINE.match(lines[0])
    if line is None:
        raise Refused(400, "invalid request line")
    if line["version"] not in ("1.0", "1.1"):
        raise Refused(505, f"version {line['version']}")
    fields: dict[str, str] = {}
    for text in lines[1:]:
        field = _FIELD.match(text)
        if field is None:
            raise Refused(400, "invalid header field")
        fields[field["name"].lower()] = field["value"]
    if line["method"] not in ("GET", "HEAD"):
        raise Refused(405, f"method {line['method']}")
    if fields.get("content-length", "0") != "0" or "transfer-encoding" in fields:
        raise Refused(400, "unexpected request body")
    target = re.sub(r"^http://[^/?#]*", "", line["target"], flags=re.I) or "/"
    path = unquote(target.partition("?")[0].partition("#")[0])
    if not path.startswith("/") or "\0" in path:
        raise Refused(400, "the request target is not a path")
    options = {word.strip() for word in fields.get("connection", "").lower().split(",")}
    goes_on = line["version"] == "1.1" and "close" not in options
    # Ranges apply to GET only (RFC 9110 section 14.2).
    first, last = _range(fields.get("range", "") if line["method"] == "GET" else "")
    return Request(path.lstrip("/"), first, last, line["method"] == "HEAD", goes_on)


def quote(path: str) -> str:
    """A path, encoded for a URL (RFC 3986 section 2)."""
    return "".join(chr(b) if _PLAIN.match(chr(b)) else f"%{b:02X}" for b in path.encode())


def unquote(path: str) -> str:
    """A path, decoded from a URL; invalid UTF-8 is replaced."""
    plain = re.sub(rb"%([0-9A-Fa-f]{2})", lambda m: bytes((int(m[1], 16),)), path.encode("latin-1", "replace"))
    return plain.decode(errors="replace")


def _range(text: str) -> tuple[int | None, int | None]:
    """The requested range; none for the whole file, or for a range that may be ignored (RFC 9110 section 14.2)."""
    found = _RANGE.match(text)
    if found is None:
        return None, None
    if found["end"]:
        return None, int(found["end"])
    return int(found["first"]), int(found["last"]) if found["last"] else None


def part(request: Request, size: int) -> tuple[int, int]:
    """The offset and length of the requested part of a file. Raises Refused if it is beyond the end."""
    if request.first is None:
        if request.last == 0 or (request.last and not size):
            raise Refused(416, "a range of zero bytes", size)
        length = size if request.last is None else min(request.last, size)
        return size - length, length
    if request.first >= size or (request.last is not None and request.last < request.first):
        raise Refused(416, "the range is beyond the end of the file", size)
    return request.first, min(size - 1, request.last if request.last is not None else size) - request.first + 1


def answer(request: Request, size: int) -> bytes:
    """The head of the answer to a request for a file of this size. Raises Refused as `part` does."""
    at, length = part(request, size)
    whole = request.first is None and request.last is None
    fields = [
        f"Content-Type: {_KINDS.get(request.path[-4:].lower(), 'application/octet-stream')}",
        "Accept-Ranges: bytes",
    ]
    if not whole:
        fields.append(f"Content-Range: bytes {at}-{at + length - 1}/{size}")
    return _head(200 if whole else 206, length, fields, goes_on=request.goes_on)


def refusal(status: int, *, goes_on: bool = False, size: int | None = None) -> bytes:
    """The whole answer to a refused request; `size` as in Refused."""
    fields = ["Allow: GET, HEAD"] if status == 405 else []
    if size is not None:
        fields.append(f"Content-Range: bytes */{size}")  # RFC 9110 section 15.5.17
    return _head(status, 0, fields, goes_on=goes_on)


def _head(status: int, length: int, fields: list[str], *, goes_on: bool) -> bytes:
    more = [] if goes_on else ["Connection: close"]
    lines = [f"HTTP/1.1 {status} {_REASONS[status]}", f"Content-Length: {length}", *fields, *more]
    return "".join(f"{line}\r\n" for line in [*lines, ""]).encode()
