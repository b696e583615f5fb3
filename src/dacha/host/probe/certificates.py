"""The TLS certificate of a service (RFC 5280), unverified: whether to trust it is up to the client."""

from __future__ import annotations

import socket
import ssl

from dacha.core.harmless import harmless
from dacha.core.trace.seen.results import Certificate
from dacha.wire.probes import RdpProbe, Verdict


def certificate(address: str, port: int, timeout_s: float, *, rdp: bool = False) -> Certificate | None:
    """The certificate of a service; None if there is none. With `rdp`, TLS begins after the RDP negotiation."""
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        with socket.create_connection((address, port), timeout_s) as s:
            if rdp and not _chose_tls(negotiate(s)):
                return None
            with context.wrap_socket(s, server_hostname=None) as wrapped:
                shown, version = wrapped.getpeercert(binary_form=True), wrapped.version()
    except (OSError, ValueError):
        return None
    return _read(shown, version or "TLS") if shown else None


def _chose_tls(verdict: Verdict) -> bool:
    return verdict.ok and ("TLS" in verdict.seen or "level" in verdict.seen)


def negotiate(s: socket.socket) -> Verdict:
    """The security protocol that an RDP server chooses, on a fresh connection."""
    probe = RdpProbe()
    s.sendall(probe.greeting)
    verdict = None
    while verdict is None:
        data = s.recv(4096)
        verdict = probe.receive(data) if data else probe.closed()
    return verdict


def _read(data: bytes, version: str) -> Certificate | None:
    from cryptography import x509

    try:
        found = x509.load_der_x509_certificate(data)
        common = found.subject.get_attributes_for_oid(x509.NameOID.COMMON_NAME)
        name = str(common[0].value) if common else found.subject.rfc4514_string()
        begins, ends = found.not_valid_before_utc.timestamp(), found.not_valid_after_utc.timestamp()
    except ValueError:
        return None
    return Certificate(harmless(name[:255]), version, begins, ends, found.issuer == found.subject)
