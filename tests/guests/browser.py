"""A real browser without a window, spoken to by its debugging protocol (Chrome DevTools Protocol)."""

from __future__ import annotations

import base64
import contextlib
import json
import shutil
import subprocess
import time
import urllib.request
from pathlib import Path
from typing import Any

from websockets.sync.client import connect

PROGRAM = shutil.which("chromium")


class Browser:
    """One page of it; gone with its block."""

    def __init__(self, folder: Path) -> None:
        assert PROGRAM
        port = folder / "browser/DevToolsActivePort"
        self._process = subprocess.Popen(
            [PROGRAM, "--headless", "--no-sandbox", "--disable-gpu", "--remote-debugging-port=0",
             "--window-size=1280,800", f"--user-data-dir={folder}/browser", "about:blank"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        deadline = time.monotonic() + 60
        while not port.is_file() or not port.read_text().strip():
            assert time.monotonic() < deadline and self._process.poll() is None
            time.sleep(0.1)
        with urllib.request.urlopen(f"http://127.0.0.1:{port.read_text().splitlines()[0]}/json") as said:
            page = next(t for t in json.load(said) if t["type"] == "page")
        self._open = contextlib.ExitStack()
        self._page = self._open.enter_context(connect(page["webSocketDebuggerUrl"], max_size=1 << 25, open_timeout=30))
        self._number = 0

    def __enter__(self) -> Browser:
        return self

    def __exit__(self, kind: object, error: object, trace: object) -> None:
        self._open.close()
        self._process.kill()
        self._process.wait()

    def ask(self, method: str, **values: Any) -> dict[str, Any]:
        self._number += 1
        self._page.send(json.dumps({"id": self._number, "method": method, "params": values}))
        while True:
            said = json.loads(self._page.recv(timeout=60))
            if said.get("id") == self._number:
                return said["result"]  # type: ignore[no-any-return]

    def go(self, url: str) -> None:
        self.ask("Page.navigate", url=url)

    def says(self, script: str) -> Any:
        return self.ask("Runtime.evaluate", expression=script, returnByValue=True)["result"].get("value")

    def until(self, script: str, wanted: Any, wait_s: float = 60) -> None:
        deadline = time.monotonic() + wait_s
        while (found := self.says(script)) != wanted:
            assert time.monotonic() < deadline, found
            time.sleep(0.2)

    def picture(self) -> bytes:
        return base64.b64decode(self.ask("Page.captureScreenshot", format="png")["data"])
