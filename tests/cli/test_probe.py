"""probe: what a port says of itself, and the certificate that it shows."""

from __future__ import annotations

import datetime
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from tests.conftest import Lab

# An RDP server's answer: it chooses TLS (MS-RDPBCGR section 2.2.1.2.1).
CONFIRM = bytes.fromhex("030000130ed000001234000200080001000000")


def make(folder: Path, ends_in_days: int) -> ssl.SSLContext:
    """A server with a certificate that is signed by itself."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "charts.saltmarsh.internal")])
    now = datetime.datetime.now(datetime.UTC)
    made = x509.CertificateBuilder(name, name, key.public_key(), x509.random_serial_number())
    made = made.not_valid_before(now - datetime.timedelta(days=30))
    signed = made.not_valid_after(now + datetime.timedelta(days=ends_in_days)).sign(key, hashes.SHA256())
    plain = serialization.NoEncryption()
    private = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain)
    (folder / "pem").write_bytes(private + signed.public_bytes(serialization.Encoding.PEM))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "pem")
    return context


@contextmanager
def serving(context: ssl.SSLContext, first: bytes) -> Iterator[int]:
    """A TLS service on loopback, behind `first` where a protocol begins without TLS; gives its port."""
    listener = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        while True:
            try:
                s, _ = listener.accept()
            except OSError:
                return
            with s:
                try:
                    s.settimeout(30)
                    if first:
                        s.recv(64)
                        s.sendall(first)
                    context.wrap_socket(s, server_side=True).close()
                except OSError:
                    pass  # a client that only looks ends the handshake

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    yield int(listener.getsockname()[1])
    listener.shutdown(socket.SHUT_RDWR)
    listener.close()
    thread.join(5)


@pytest.mark.parametrize(
    "service, first, days, words",
    [
        ("https", b"", 90, "valid for 90 d more, self-signed"),
        ("https", b"", -2, "expired 2 d ago"),
        ("rdp", CONFIRM, 90, "for charts.saltmarsh.internal, valid for 90 d more"),
    ],
)
def test_the_certificate_is_shown(lab: Lab, tmp_path: Path, service: str, first: bytes, days: int, words: str) -> None:
    with serving(make(tmp_path, days), first) as port:
        said = lab("probe", f"127.0.0.1:{port}", "--as", service)
        assert f"answers as {service}" in said.out and words in said.out
        shown = lab("probe", f"127.0.0.1:{port}", "--as", service, "--json").json["certificate"]
    assert shown["name"] == "charts.saltmarsh.internal" and shown["holds"] is (days > 0) and shown["own"]


def test_a_closed_port_is_answered_without_waiting(lab: Lab) -> None:
    with socket.create_server(("127.0.0.1", 0)) as s:
        port = s.getsockname()[1]
    # Waited for, this would outlast the program's time here.
    assert "refused: no program listens there" in lab("probe", f"127.0.0.1:{port}", "--wait", "10 min", code=1).out


@pytest.mark.parametrize("name", ["a..b", "m" * 64, ".", "gauge\udcff"])
def test_what_cannot_be_a_name_is_no_defect(lab: Lab, name: str) -> None:
    assert "does not resolve to an address" in lab("probe", f"{name}:22", code=2).err
