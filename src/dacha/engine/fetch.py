"""Media over HTTP: fetched into a file that is continued where a killed command left off."""

from __future__ import annotations

import contextlib
import io
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

from dacha.core.errors import NoError
from dacha.engine.media_store import MAIN, Kept, Progress, Store
from dacha.host.files import replace_file


class _Stream(io.RawIOBase, BinaryIO):
    """What an HTTP answer brings, as a file that is only read."""

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
) -> tuple[Kept, bool]:
    """Fetch a medium over HTTP or HTTPS (RFC 9110; ranges by section 14) and take it in.

    What came before a broken connection is kept and continued, if the server says it is still the same file
    (its ETag or Last-Modified). Raises NoError with the server's answer.
    """
    import httpx

    folder = store.folder(storage)
    part, about = folder / f".{name}.fetch", folder / f".{name}.fetch-from"
    have, validator = _begun(part, about, url)
    headers = {"Range": f"bytes={have}-", "If-Range": validator} if have and validator else {}
    try:
        with (
            httpx.Client(follow_redirects=True, timeout=30.0) as client,
            client.stream("GET", url, headers=headers) as answer,
        ):
            if answer.status_code not in (200, 206):
                raise NoError(
                    f"{url} answered {answer.status_code} {answer.reason_phrase}", remedy="is the address right?"
                )
            if answer.status_code == 200 and part.exists():
                part.unlink()  # another file by now, or a server that knows no ranges
                have = 0
            validator = answer.headers.get("etag") or answer.headers.get("last-modified") or ""
            replace_file(about, json.dumps({"url": url, "validator": validator}))
            length = answer.headers.get("content-length")
            size = have + int(length) if length and length.isdigit() else None
            part.touch()
            kept = store.add(
                _Stream(answer.iter_bytes(1 << 20)),
                name,
                storage=storage,
                size=size,
                expected=expected,
                part=part,
                progress=progress,
            )
    except httpx.HTTPError as e:
        raise NoError(
            f"{url} could not be fetched whole",
            why=str(e) or type(e).__name__,
            remedy="run the same command again: it goes on where it stopped",
        ) from e
    finally:
        if not part.exists():
            with contextlib.suppress(OSError):
                about.unlink()
    return kept


def _begun(part: Path, about: Path, url: str) -> tuple[int, str]:
    """How many bytes an earlier fetch of the same address left, and the server's name for that content."""
    try:
        noted = json.loads(about.read_text())
        if noted["url"] == url:
            return part.stat().st_size, noted["validator"]
    except (OSError, ValueError, KeyError):
        pass
    return 0, ""
