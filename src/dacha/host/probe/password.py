"""Try a password at an RDP server with network level authentication: CredSSP over TLS (MS-CSSP) with NTLM inside
(MS-NLMP).

It stops as soon as the server has decided: no session is started, and the password itself is never sent.
"""

from __future__ import annotations

import os
import socket
import ssl
import struct
import time

from dacha.core.errors import PeerError
from dacha.core.heard import Heard
from dacha.core.named import NamedTuple
from dacha.host.probe.certificates import negotiate
from dacha.wire.credssp import VERSION, TsRequest, bound_key, read_message

NONCE = 32


class Checked(NamedTuple):
    """The result: whether the server `asked` for a password first, whether it was `accepted`, and the server's error
    (NTSTATUS; 0 if it only closed the connection)."""

    asked: bool
    accepted: bool = False
    error: int = 0


def check_password(address: str, port: int, user: str, password: str, timeout_s: float) -> Checked:
    """Raises OSError or PeerError if there is no result within `timeout_s` seconds in total."""
    deadline = time.monotonic() + timeout_s
    context = ssl.create_default_context()
    # Another hop reports the certificate; this check binds to whatever key it has.
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    with socket.create_connection((address, port), timeout_s) as plain:
        chosen = negotiate(plain)
        if chosen.heard != Heard.RDP_NLA:
            return Checked(False)
        with context.wrap_socket(plain) as s:
            return _exchange(s, user, password, deadline)


def _exchange(s: ssl.SSLSocket, user: str, password: str, deadline: float) -> Checked:
    import spnego
    from spnego.exceptions import SpnegoError

    domain, _, name = user.rpartition("\\")
    try:
        client = spnego.client(f"{domain}\\{name}" if domain else name, password, protocol="ntlm")
        s.sendall(TsRequest(token=client.step() or b"").encoded())
        challenge = _receive(s, deadline)
        if challenge is None or challenge.error:
            return Checked(True, error=challenge.error if challenge else 0)
        if not challenge.token:
            raise PeerError("its answer contains no challenge")
        version, nonce = min(VERSION, challenge.version), os.urandom(NONCE)
        proof = client.step(challenge.token) or b""
        sealed = client.wrap(bound_key(version, _public_key(s), nonce)).data
        s.sendall(TsRequest(token=proof, key=sealed, nonce=nonce).encoded())
        answer = _receive(s, deadline)
    except (SpnegoError, ValueError, IndexError, struct.error) as e:
        raise PeerError(f"its answer is not NTLM: {e}") from e
    if answer is None or answer.error:
        return Checked(True, error=answer.error if answer else 0)
    return Checked(True, accepted=bool(answer.key))


def _public_key(s: ssl.SSLSocket) -> bytes:
    """The key in the server's certificate, as in its bit string (RFC 5280 section 4.1)."""
    from cryptography import x509
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    key = x509.load_der_x509_certificate(s.getpeercert(binary_form=True) or b"").public_key()
    if isinstance(key, RSAPublicKey):
        return key.public_bytes(Encoding.DER, PublicFormat.PKCS1)
    return key.public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)


def _receive(s: ssl.SSLSocket, deadline: float) -> TsRequest | None:
    """The server's next message; None if it closed the connection."""
    data = b""
    while True:
        s.settimeout(max(0.1, deadline - time.monotonic()))
        try:
            chunk = s.recv(8192)
        except (ConnectionResetError, ssl.SSLEOFError, ssl.SSLZeroReturnError):
            return None
        if not chunk:
            return None
        data += chunk
        if found := read_message(data):
            return found[0]
