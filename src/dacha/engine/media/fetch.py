"""Downloads of media over HTTP, into a file that a later command can continue."""

from __future__ import annotations

import contextlib
import io
import json
import socket
from collections.abc import Iterator
from ipaddress import ip_address
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO
from urllib.parse import urlsplit

from dacha.core.errors import AnswerNo
from dacha.core.units import TIB, show_size, whole_number
from dacha.engine.media.media_store import MAIN, Kept, Progress, Store
from dacha.host.files import replace_file
from dacha.host.records import parse

if TYPE_CHECKING:
    import httpx

# A limit for the size of media, and one for redirects.
LARGEST, REDIRECTS_MOST = TIB, 5
# A limit for lists of checksums (bytes).
SMALL = 4 << 20


class _Stream(io.RawIOBase, BinaryIO):
    """The body of an HTTP answer, as a read-only file."""

    def __init__(self, chunks: Iterator[bytes]) -> None:
        self._chunks = chunks
        self._rest = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._rest:
            try:
                self._rest = next(self._chunks)
            except StopIteration:
                return 0
        count = min(len(buffer), len(self._rest))
        buffer[:count] = self._rest[:count]
        self._rest = self._rest[count:]
        return count


def add_from(
    store: Store,
    url: str,
    name: str,
    *,
    storage: str = MAIN,
    expected: str | None = None,
    progress: Progress = lambda done, total: None,
    place: str = "",
) -> tuple[Kept, bool]:
    """Download a medium over HTTP or HTTPS (RFC 9110; ranges by section 14) and add it. What arrived before a broken
    connection is kept and continued, if the server says it is still the same file (its ETag or Last-Modified). Raises
    AnswerNo with the server's answer."""
    folder = store.folder(storage)
    with store.writing(folder, name):
        return _fetch(store, folder, url, name, storage, expected, progress, place)


def _fetch(
    store: Store,
    folder: Path,
    url: str,
    name: str,
    storage: str,
    expected: str | None,
    progress: Progress,
    place: str,
) -> tuple[Kept, bool]:
    import httpx

    part, about = folder / f".{name}.fetch", folder / f".{name}.fetch-from"
    have, validator = _begun(part, about, url)
    # Content is not decoded: a compressed answer may be a thousand times as long as it seems.
    headers = {"Accept-Encoding": "identity"}
    if have and validator:
        headers |= {"Range": f"bytes={have}-", "If-Range": validator}
    try:
        with httpx.Client(timeout=30.0) as client, _answer(client, url, headers) as answer:
            _refuse(url, answer, part, have)
            if answer.status_code == 200 and part.exists():
                part.unlink()  # another file by now, or a server without ranges
                have = 0
            validator = answer.headers.get("etag") or answer.headers.get("last-modified") or ""
            validator = validator if validator.isascii() else ""  # it is sent back in a header
            replace_file(about, json.dumps({"url": url, "validator": validator}))
            length = whole_number(answer.headers.get("content-length", ""))
            size = have + length if length is not None else None
            part.touch()
            kept = store.add(
                _Stream(_capped(answer.iter_raw(1 << 20), url, have)),
                name,
                storage=storage,
                size=size,
                expected=expected,
                part=part,
                progress=progress,
                place=place,
            )
    except (httpx.HTTPError, httpx.InvalidURL, UnicodeError) as e:
        raise AnswerNo(
            f"{url} could not be downloaded completely",
            why=_why(e),
            remedy="run the same command again: it resumes the download"
            if part.exists() and part.stat().st_size
            else "check the address, and that the server is up",
        ) from e
    finally:
        if not part.exists():
            with contextlib.suppress(OSError):
                about.unlink()
    return kept


def _refuse(url: str, answer: httpx.Response, part: Path, have: int) -> None:
    """Refuse an answer that is not the file, or not the rest of it from byte `have` on. Raises AnswerNo."""
    if answer.status_code not in (200, 206):
        raise AnswerNo(f"{url} answered {answer.status_code} {answer.reason_phrase}", remedy="check the address")
    if answer.headers.get("content-encoding", "identity") != "identity":
        raise AnswerNo(f"{url} answers with compressed data", remedy="use an address that serves the file itself")
    if answer.status_code == 206 and not answer.headers.get("content-range", "").startswith(f"bytes {have}-"):
        part.unlink(missing_ok=True)
        raise AnswerNo(
            f"{url} answered with another range than requested",
            remedy="run the same command again: it starts from the beginning",
        )


def fetch_small(url: str) -> bytes:
    """The contents of a URL that is a short text: checksums, a signature. Raises AnswerNo."""
    import httpx

    try:
        with httpx.Client(timeout=30.0) as client, _answer(client, url, {"Accept-Encoding": "identity"}) as answer:
            if answer.status_code != 200:
                what = f"{url} answered {answer.status_code} {answer.reason_phrase}"
                raise AnswerNo(what, remedy="check the address")
            data = b""
            for chunk in answer.iter_raw(1 << 16):
                data += chunk
                if len(data) > SMALL:
                    raise AnswerNo(f"{url} is too long for a list of checksums")
            return data
    except (httpx.HTTPError, httpx.InvalidURL, UnicodeError) as e:
        raise AnswerNo(f"{url} could not be downloaded", why=_why(e)) from e


def _why(error: Exception) -> str:
    """Why a download failed, in words."""
    return "this is not a valid host name" if isinstance(error, UnicodeError) else str(error) or type(error).__name__


@contextlib.contextmanager
def _answer(client: Any, url: str, headers: dict[str, str]) -> Iterator[Any]:
    """The answer of a URL, after a limited number of redirects, and never from https to http. Raises AnswerNo."""
    secure, here = url.startswith("https://"), _on_this_host(url)
    for _ in range(REDIRECTS_MOST):
        with client.stream("GET", url, headers=headers) as answer:
            if not answer.is_redirect:
                yield answer
                return
            request = answer.next_request
            url = str(request.url) if request else ""
        if secure and not url.startswith("https://"):
            raise AnswerNo(f"redirected from https to {url}", why="others on the path could change the data")
        if not url.startswith(("http://", "https://")):
            raise AnswerNo(f"the address redirects to {url or 'nothing'}", remedy="check the address")
        if not here and _on_this_host(url):
            raise AnswerNo(f"the address redirects to {url}", why="a remote server redirects to this host's loopback")
    raise AnswerNo("too many redirects", remedy="check the address")


def _on_this_host(url: str) -> bool:
    """True for an address on this host's loopback, or link-local: services there trust their clients."""
    host = urlsplit(url).hostname or ""
    try:
        found = {row[4][0] for row in socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)}
    except (OSError, UnicodeError):
        return False  # the download itself reports an unknown name
    places = (ip_address(str(place).partition("%")[0]) for place in found)
    known = (getattr(place, "ipv4_mapped", None) or place for place in places)
    return any(p.is_loopback or p.is_link_local or p.is_unspecified for p in known)


def _capped(chunks: Iterator[bytes], url: str, have: int) -> Iterator[bytes]:
    """The same bytes, up to a limit that no medium reaches. Raises AnswerNo."""
    for chunk in chunks:
        have += len(chunk)
        if have > LARGEST:
            raise AnswerNo(f"{url} does not end", why=f"{show_size(LARGEST)} were received")
        yield chunk


def _begun(part: Path, about: Path, url: str) -> tuple[int, str]:
    """How many bytes an earlier download from the same URL left, and the server's validator for that content."""
    try:
        noted = parse(about.read_text())
        if noted["url"] == url:
            return part.stat().st_size, str(noted["validator"])
    except (OSError, ValueError, KeyError, TypeError):
        pass
    return 0, ""
