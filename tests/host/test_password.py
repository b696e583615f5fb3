"""A password tried at an RDP server with network level authentication: a stand-in that checks it as such servers do."""

from __future__ import annotations

import datetime
import socket
import ssl
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
import spnego
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from spnego.exceptions import SpnegoError

from dacha.core.errors import PeerError
from dacha.host.probe.password import Checked, check_password
from dacha.wire.credssp import TsRequest, bound_key, read_message

REFUSED, CONFIRM = 0xC000006D, "030000130ed000001234000209080002000000"


class Desk:
    """The stand-in: what it answers can be bent."""

    def __init__(self, folder: Path, key: rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey) -> None:
        self.version, self.error, self.confirm, self.noise = 6, REFUSED, CONFIRM, b""
        name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "desk")])
        now = datetime.datetime.now(datetime.UTC)
        made = x509.CertificateBuilder(name, name, key.public_key(), 7, now, now + datetime.timedelta(days=1))
        pem = made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)
        pem += key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
        (folder / "desk.pem").write_bytes(pem)
        self.public = key.public_key().public_bytes(
            *(
                (serialization.Encoding.DER, serialization.PublicFormat.PKCS1)
                if isinstance(key, rsa.RSAPrivateKey)
                else (serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint)
            )
        )
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.load_cert_chain(folder / "desk.pem")
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        threading.Thread(target=self.serve, daemon=True).start()

    def serve(self) -> None:
        while True:
            try:
                plain, _ = self.listener.accept()
            except OSError:
                return
            with plain:
                plain.recv(4096)
                plain.sendall(bytes.fromhex(self.confirm))
                try:
                    with self.context.wrap_socket(plain, server_side=True) as s:
                        self.talk(s)
                except OSError:
                    continue

    def talk(self, s: ssl.SSLSocket) -> None:
        server = spnego.server(protocol="ntlm")
        first = read_message(s.recv(8192))
        assert first
        if self.noise:
            s.sendall(self.noise)
            return
        s.sendall(TsRequest(self.version, server.step(first[0].token) or b"").encoded())
        second = read_message(s.recv(8192))
        assert second and second[0].nonce
        try:
            server.step(second[0].token)
        except SpnegoError:
            if self.error:
                s.sendall(TsRequest(self.version, error=self.error).encoded())
            return
        bound = bound_key(self.version, self.public, second[0].nonce)
        assert server.unwrap(second[0].key).data == bound
        answer = bound_key(self.version, self.public, second[0].nonce, by_server=True)
        s.sendall(TsRequest(self.version, key=server.wrap(answer).data).encoded())


@pytest.fixture(params=["rsa", "ec"])
def desk(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Desk]:
    users = tmp_path / "users"
    users.write_text("pier:kim:low tide at nine\n:kim:low tide at nine\n")
    monkeypatch.setenv("NTLM_USER_FILE", str(users))
    made = Desk(
        tmp_path,
        rsa.generate_private_key(65537, 2048) if request.param == "rsa" else ec.generate_private_key(ec.SECP256R1()),
    )
    yield made
    made.listener.close()


@pytest.mark.parametrize("version", [6, 5, 2])
def test_a_password_is_accepted_or_refused(desk: Desk, version: int) -> None:
    desk.version = version
    assert check_password("127.0.0.1", desk.port, "kim", "low tide at nine", 5) == Checked(True, True)
    assert check_password("127.0.0.1", desk.port, "pier\\kim", "low tide at nine", 5) == Checked(True, True)
    for user, password in (("kim", "high tide"), ("mara", "low tide at nine"), ("kim", "")):
        assert check_password("127.0.0.1", desk.port, user, password, 5) == Checked(True, False, REFUSED)
    desk.error = 0
    assert check_password("127.0.0.1", desk.port, "kim", "high tide", 5) == Checked(True, False, 0)


def test_a_server_that_asks_later_or_never_is_told_apart(desk: Desk) -> None:
    desk.confirm = CONFIRM[:-8] + "01000000"
    assert check_password("127.0.0.1", desk.port, "kim", "low tide at nine", 5) == Checked(False)


@pytest.mark.parametrize("noise", ["04", "308400ffffff", "3085", "3003a00102", "300da10b3009", "3005a003020106"])
def test_what_is_no_such_message_is_said(desk: Desk, noise: str) -> None:
    desk.noise = bytes.fromhex(noise) + b"\0" * 64
    with pytest.raises((PeerError, OSError)):
        check_password("127.0.0.1", desk.port, "kim", "low tide at nine", 2)
