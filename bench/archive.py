"""A small Debian archive on loopback for the benches: what a guest's installer asks for is fetched by apt's own
downloader from where this machine's apt fetches, once, and kept. Its files and signatures are Debian's own, but for
what `own` has in front of them."""

from __future__ import annotations

import os
import socket
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import unquote

HELPER = "/usr/lib/apt/apt-helper"


def place_of_packages() -> str:
    """Where this machine's apt fetches Debian's packages, without a slash at the end."""
    told = subprocess.run(
        ["apt-get", "indextargets", "--format", "$(REPO_URI)", "Codename: bookworm"],
        capture_output=True, text=True, check=True,
    ).stdout.split()  # fmt: skip
    return next(uri.rstrip("/") for uri in told if uri.rstrip("/").endswith("/debian"))


class Archive:
    """Files of Debian's archive, fetched when they are first asked for. Packages are kept in `kept` for the next time,
    lists only for this one. What is in `own` is served first; `asked` is what was asked for, `missing` what of it
    is not to be had."""

    def __init__(self, kept: Path, own: Path | None = None) -> None:
        self.base, self.kept, self.own = place_of_packages(), kept, own
        self.asked: list[str] = []
        self.missing: list[str] = []
        self._locks: dict[str, threading.Lock] = {}
        self._fresh: set[str] = set()

    def fetch(self, path: str) -> Path | None:
        """A file of Debian's; None where it is not to be had."""
        file = self.kept / path
        with self._locks.setdefault(path, threading.Lock()):
            # Lists are fetched once each time. Another bench may read them meanwhile: they are replaced as a whole.
            stale = path.startswith("dists/") and path not in self._fresh
            self._fresh.add(path)
            if stale or not file.is_file():
                file.parent.mkdir(parents=True, exist_ok=True)
                part = file.with_name(f"{file.name}.{os.getpid()}.part")
                part.unlink(missing_ok=True)
                # The place's own names have + written out.
                place = f"{self.base}/{path}".replace("+", "%2b")
                subprocess.run([HELPER, "download-file", place, part], capture_output=True, check=False)
                if not part.is_file():
                    return None
                part.rename(file)
        return file

    def serve(self, path: str, by: str) -> Path | None:
        """The file for whoever asks (User-Agent `by`). apt in the installed system has Debian's key alone: it gets
        Debian's own lists."""
        self.asked.append(path)
        if self.own and not (path.startswith("dists/") and "APT" in by) and (self.own / path).is_file():
            return self.own / path
        return self.fetch(path)


class _Handler(BaseHTTPRequestHandler):
    archive: Archive

    def do_GET(self) -> None:
        path = unquote(self.path).removeprefix("/debian/")
        file = None
        if path.startswith(("dists/", "pool/")) and ".." not in path.split("/"):
            file = self.archive.serve(path, self.headers.get("User-Agent", ""))
        if file is None:
            self.archive.missing.append(path)
            self.send_error(404)
            return
        self.send_response(200)
        self.send_header("Content-Length", str(file.stat().st_size))
        self.end_headers()
        if self.command == "GET":
            with file.open("rb") as f:
                while block := f.read(1 << 20):
                    self.wfile.write(block)

    do_HEAD = do_GET

    def log_message(self, format: str, *args: object) -> None:
        """Nothing: what was asked is counted."""


@contextmanager
def archive(
    kept: Path, own: Path | None = None, listening: socket.socket | None = None
) -> Iterator[tuple[int, Archive]]:
    """The archive, served while this lasts: its port, and what was asked of it. `listening` is where it is asked; on
    loopback without."""
    kept_files = Archive(kept, own)
    handler = type("Served", (_Handler,), {"archive": kept_files})
    place = listening or socket.create_server(("127.0.0.1", 0))
    with ThreadingHTTPServer(place.getsockname(), handler, bind_and_activate=False) as server:
        server.socket.close()
        server.socket = place
        threading.Thread(target=server.serve_forever, daemon=True).start()
        try:
            yield place.getsockname()[1], kept_files
        finally:
            server.shutdown()
