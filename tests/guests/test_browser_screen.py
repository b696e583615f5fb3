"""A guest's screen in a browser: its page, what guards it, and the picture that a real browser draws."""

from __future__ import annotations

import http.client
import re
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import urlsplit

import pytest
from websockets.exceptions import InvalidStatus
from websockets.sync.client import connect

from tests.conftest import PROGRAM, Lab
from tests.guests.browser import Browser

LAB = (
    '[lab]\nname = "saltmarsh"\n[network.pier]\nkind = "nat"\n[guest.desk]\nmemory = "128 MiB"\n'
    'disk = [{ size = "16 MiB" }]\nadapter = [{ network = "pier" }]\n'
    '[guest.bare]\nmemory = "64 MiB"\nvideo = false\ndisk = [{ size = "1 MiB" }]\n'
)


@pytest.fixture(scope="module")
def client(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The client as Debian's package has it, not installed."""
    folder = tmp_path_factory.mktemp("client")
    subprocess.run(["apt-get", "download", "novnc"], cwd=folder, check=True, capture_output=True, timeout=120)
    subprocess.run(["dpkg", "-x", next(folder.glob("*.deb")), folder / "all"], check=True)
    return folder / "all/usr/share/novnc"


@contextmanager
def serving(lab: Lab, client: Path) -> Iterator[tuple[str, subprocess.Popen[str]]]:
    process = subprocess.Popen(
        [PROGRAM, "screen", "desk", "--browser"], cwd=lab.folder, text=True, stdout=subprocess.PIPE,
        env=lab.env | {"DACHA_VNC_CLIENT": str(client)},
    )  # fmt: skip
    assert process.stdout
    try:
        found = re.match(r"Open (http://127\.0\.0\.1:\d+/\S+)\n", process.stdout.readline())
        assert found
        yield found[1], process
    finally:
        process.kill()
        process.wait()


def get(host: str, path: str, **headers: str) -> tuple[int, dict[str, str], bytes]:
    asked = http.client.HTTPConnection(host, timeout=20)
    asked.request("GET", path, headers={"Host": host, **headers})
    said = asked.getresponse()
    return said.status, dict(said.getheaders()), said.read()


def test_a_screen_is_served_to_who_has_the_token_and_ends_with_the_last_viewer(lab: Lab, client: Path) -> None:
    lab.write(LAB)
    assert "desk is off" in lab("screen", "desk", "--browser", code=1).err
    lab("apply", "--no-wait")
    assert (
        "no VNC client for browsers"
        in lab("screen", "desk", "--browser", code=3, env={"DACHA_VNC_CLIENT": "/none"}).err
    )
    assert "has no display" in lab("screen", "bare", "--browser", code=1).err
    lab("screen", "desk", "--listen", "host")  # what another client was given takes nothing from a browser
    with serving(lab, client) as (url, process):
        host, token = urlsplit(url).netloc, urlsplit(url).path
        plain = get(host, "/")[2].decode()
        assert get(host, token, Host="pier.example")[0] == 403, "another name that was made to lead here"
        status, headers, page = get(host, token)
        policy, secret = headers["Content-Security-Policy"], re.search(r'const given = "(\S{20,})"', page.decode())
        assert status == 200 and b"Ctrl-Alt-Del" in page and "default-src 'none'" in policy and secret
        # A cookie would be sent to every other server of this host's loopback.
        assert "Set-Cookie" not in headers
        assert get(host, token)[0] == 404, "it counts once"
        # Who does not have the secret is told nothing by the page.
        assert secret[1] not in plain and "desk" not in plain and get(host, "/told")[0] == 404
        assert get(host, "/told", **{"X-Secret": "x" * 32})[0] == 404
        assert b'"guest": "desk"' in get(host, "/told", **{"X-Secret": secret[1]})[2]
        assert get(host, "/client/core/rfb.js")[1]["Content-Type"] == "text/javascript"
        for beside in (
            "/client/../../../../etc/passwd", "/client/core/../../../../etc/passwd", "/client/core/../package.json",
            "/client/vendor/../package.json", "/client/vnc.html", "/etc/passwd",
        ):  # fmt: skip
            assert get(host, beside)[0] == 404, beside
        for garbage in (
            b"GET /client/core/\0/../../x HTTP/1.1\r\nHost: " + host.encode() + b"\r\n\r\n",
            b"GET /client/%00 HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n", b"GET " + b"/x" * 40000,
            b"\x16\x03\x01\0\x05hello",
            b"GET /screen?" + secret[1].encode() + b" HTTP/1.1\r\nHost: " + host.encode() + b"\r\nOrigin: http://"
            + host.encode() + b"\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\n"
            b"Sec-WebSocket-Key: dGlkZXMgYXQgdGhlIHBpZXI=\r\n\r\n" + b"\xff\x7f" + b"\xff" * 8 + b"\x80" * 4096,
        ):  # fmt: skip
            name, _, number = host.partition(":")
            with socket.create_connection((name, int(number)), 20) as raw:
                raw.sendall(garbage)
                raw.shutdown(socket.SHUT_WR)
                while raw.recv(1 << 16):
                    pass
        own = f"http://{host}"
        for query, origin in (("", own), ("x", own), (secret[1], "http://pier.example")):
            with pytest.raises(InvalidStatus):
                connect(f"ws://{host}/screen?{query}", additional_headers={"Origin": origin})
        rights = {"Origin": own}
        with connect(f"ws://{host}/screen?{secret[1]}", additional_headers=rights) as first:
            assert first.recv(timeout=20) == b"RFB 003.008\n"
            with connect(f"ws://{host}/screen?{secret[1]}", additional_headers=rights) as second:
                assert second.recv(timeout=20) == b"RFB 003.008\n"
                second.send(b"RFB 003.008\n")
                # It offers the one way of proving who one is that it has: by a password (RFC 6143 section 7.2.2).
                assert second.recv(timeout=20) == b"\x01\x02"
            assert process.poll() is None, "one still looks"
        began = time.monotonic()
        assert process.wait(30) == 0 and time.monotonic() - began > 2, "who loads the page again finds it there"


# A browser is a hundred megabytes: the suite of all brings one.
@pytest.mark.whole
def test_a_browser_shows_the_screen(lab: Lab, client: Path, tmp_path: Path) -> None:
    lab.write(LAB)
    lab("apply", "--no-wait")
    with serving(lab, client) as (url, process), Browser(tmp_path) as browser:
        browser.go(url)
        browser.until("document.getElementById('state')?.textContent", "connected")
        # The firmware has drawn something: more than one colour is on the canvas.
        drawn = (
            "(() => { const c = document.querySelector('#display canvas'); const d = c.getContext('2d').getImageData("
            "0, 0, c.width, c.height).data; return new Set(new Uint32Array(d.buffer)).size > 1 && c.width > 300 })()"
        )
        browser.until(drawn, True)
        assert not browser.says("location.href.length > 40"), "the token is not in the address any more"
        assert len(browser.picture()) > 5000 and process.poll() is None
