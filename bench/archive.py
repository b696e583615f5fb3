"""A small Debian archive on loopback for the benches: what a guest's installer asks for is fetched by apt's own
downloader from where this machine's apt fetches, once, and kept. Its files and signatures are Debian's own."""

from __future__ import annotations

import lzma
import re
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

HELPER = "/usr/lib/apt/apt-helper"
_PATH = re.compile(r"/debian/((?:dists|pool)/[A-Za-z0-9._+~%/:-]+)\Z")


def place_of_packages() -> str:
    """Where this machine's apt fetches Debian's packages, without a slash at the end."""
    told = subprocess.run(
        ["apt-get", "indextargets", "--format", "$(REPO_URI)", "Codename: bookworm"],
        capture_output=True, text=True, check=True,
    ).stdout.split()  # fmt: skip
    return next(uri.rstrip("/") for uri in told if uri.rstrip("/").endswith("/debian"))


class Archive(BaseHTTPRequestHandler):
    """Serves `/debian/…`; `base` and `kept` are set by `archive`."""

    base: str
    kept: Path
    one: dict[str, threading.Lock]
    asked: list[str]

    def do_GET(self) -> None:
        found = _PATH.match(self.path)
        file = self._file(found[1].replace("%2b", "+").replace("%7e", "~")) if found and ".." not in self.path else None
        if file is None:
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

    def _file(self, path: str) -> Path | None:
        file = self.kept / path
        self.asked.append(path)
        with self.one.setdefault(path, threading.Lock()):
            if not file.is_file():
                file.parent.mkdir(parents=True, exist_ok=True)
                part = file.with_suffix(file.suffix + ".part")
                part.unlink(missing_ok=True)
                subprocess.run([HELPER, "download-file", f"{self.base}/{path}", part], capture_output=True, check=False)
                if not part.is_file():
                    return None
                part.rename(file)
        return file

    def log_message(self, format: str, *args: object) -> None:
        """Nothing: what was asked is counted."""


def installers_parts(kept: Path) -> str | None:
    """Why the parts that Debian's installer is made of cannot be fetched here; None where they can."""
    server = type("Kept", (), {"base": place_of_packages(), "kept": kept, "one": {}, "asked": []})()
    listed = Archive._file(server, "dists/bookworm/main/debian-installer/binary-amd64/Packages.xz")
    if listed is None:
        return "there is no list of them"
    first = re.search(r"^Filename: (\S+)$", lzma.decompress(listed.read_bytes()).decode(), re.M)
    if first is None or Archive._file(server, first[1]) is None:
        return f"{first[1] if first else 'the first of them'} is listed, and is not there (.udeb files are not served)"
    return None


@contextmanager
def archive(kept: Path, address: str = "127.0.0.1") -> Iterator[tuple[int, list[str]]]:
    """The archive, served while this lasts: its port, and a list of what was asked for."""
    handler = type("Kept", (Archive,), {"base": place_of_packages(), "kept": kept, "one": {}, "asked": []})
    with ThreadingHTTPServer((address, 0), handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        try:
            yield server.server_address[1], handler.asked  # type: ignore[attr-defined]
        finally:
            server.shutdown()
