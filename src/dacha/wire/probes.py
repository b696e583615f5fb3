"""Probes: does the service on a port speak its protocol? One small state machine per service.

A probe receives bytes as they arrive, and returns what to send and finally a verdict. An accepted connection proves
nothing (a forward accepts before the guest listens), so each waits for the first answer.
"""

from __future__ import annotations

from dacha.core.harmless import harmless
from dacha.core.heard import Heard
from dacha.core.named import NamedTuple

# First answers are shorter; more data without a verdict means another protocol.
FIRST_WORDS_MOST = 16384


class Verdict(NamedTuple):
    """`ok` is true if the service speaks the expected protocol; `seen` is its answer in words, `after_s` how long that
    took (seconds), `heard` the kind of answer."""

    ok: bool
    seen: str
    after_s: float = 0.0
    heard: Heard = Heard.ANSWER


def verdict_of(heard: Heard, *, ok: bool = False) -> Verdict:
    """The verdict for a kind of answer that needs no further description."""
    return Verdict(ok, str(heard), heard=heard)


# How the first answers of known protocols begin.
_TELLING = 5
_BEGINNINGS = {b"SSH-": "SSH", b"HTTP/": "HTTP", b"RFB ": "VNC", b"\x15\x03": "TLS", b"\x16\x03": "TLS"}


def another(data: bytes) -> Verdict | None:
    """The verdict for the first bytes of another protocol, with its name if it is known, else with these bytes; None if
    they are too few to tell."""
    return _another(data) if len(data) >= _TELLING or b"\n" in data else None


def _another(data: bytes) -> Verdict:
    name = next((name for begin, name in _BEGINNINGS.items() if data.startswith(begin)), "")
    text = harmless(data.partition(b"\n")[0].decode("latin-1").strip()[:30])
    what = name or (f'it begins with "{text}"' if text else "")
    return Verdict(False, f"{Heard.OTHER}: {what}" if what else str(Heard.OTHER), heard=Heard.OTHER)


class Probe:
    """A probe of one service: `greeting` is sent first, `receive` is called until it returns a verdict."""

    greeting = b""

    def __init__(self) -> None:
        self._buffer = b""

    def receive(self, data: bytes) -> Verdict | None:
        """Process bytes from the service; None if more are needed."""
        self._buffer += data
        if len(self._buffer) > FIRST_WORDS_MOST:
            return _another(self._buffer)
        return self.judge(self._buffer)

    def closed(self) -> Verdict:
        """The service closed the connection."""
        if not self._buffer:
            return verdict_of(Heard.CLOSED)
        return _another(self._buffer)

    def judge(self, data: bytes) -> Verdict | None:
        raise NotImplementedError


class SshProbe(Probe):
    """SSH: the identification string, possibly after other lines (RFC 4253 section 4.2)."""

    def judge(self, data: bytes) -> Verdict | None:
        *lines, _ = data.split(b"\n")
        for line in lines:
            if line.startswith(b"SSH-"):
                text = harmless(line.rstrip(b"\r").decode("ascii", "replace")[:255])
                known = text.startswith(("SSH-2.0-", "SSH-1.99-"))
                return Verdict(known, text if known else f"{text}: not SSH version 2")
        return None

    def closed(self) -> Verdict:
        """A server that admits nobody at the moment may say why, and close the connection."""
        said = harmless(self._buffer.decode("utf-8", "replace").strip()[:80])
        return Verdict(False, f'says "{said}", and closes', heard=Heard.TURNED_AWAY) if said else super().closed()


class HttpProbe(Probe):
    """HTTP: any status line is an answer (RFC 9112 section 4)."""

    greeting = b"HEAD / HTTP/1.1\r\nHost: probe.invalid\r\nConnection: close\r\n\r\n"

    def judge(self, data: bytes) -> Verdict | None:
        line, end, _ = data.partition(b"\n")
        if not end:
            return another(data) if not b"HTTP/".startswith(data[:5]) else None
        fields = line.decode("latin-1").split()
        if len(fields) >= 2 and fields[0].startswith("HTTP/") and fields[1].isdigit():
            heard = Heard.SERVER_ERROR if len(fields[1]) == 3 and fields[1].startswith("5") else Heard.ANSWER
            return Verdict(True, harmless(f"{fields[0]} {fields[1]}"[:80]), heard=heard)
        return another(data)


class VncProbe(Probe):
    """RFB: the server sends its version in 12 bytes (RFC 6143 section 7.1.1)."""

    def judge(self, data: bytes) -> Verdict | None:
        if len(data) < 12:
            return None if b"RFB ".startswith(data[:4]) else another(data)
        if data.startswith(b"RFB ") and data[11:12] == b"\n":
            return Verdict(True, harmless(data[:11].decode("ascii", "replace")))
        return another(data)


class RdpProbe(Probe):
    """RDP: an X.224 connection request offering TLS is answered by a connection
    confirm (MS-RDPBCGR section 2.2.1.2)."""

    # TPKT header, X.224 CR with class 0, RDP_NEG_REQ asking for PROTOCOL_SSL | PROTOCOL_HYBRID.
    greeting = bytes.fromhex("030000130ee000000000000100080003000000")

    def judge(self, data: bytes) -> Verdict | None:
        if data[:1] not in (b"", b"\x03"):
            return another(data)
        if len(data) < 11 or len(data) < int.from_bytes(data[2:4], "big"):
            return None
        if data[5] & 0xF0 != 0xD0:
            return Verdict(False, "refuses the connection request")
        if len(data) >= 19 and data[11] == 3:
            return Verdict(True, "RDP, with a security protocol that was not offered")
        chosen = int.from_bytes(data[15:19], "little") if len(data) >= 19 and data[11] == 2 else 0
        known = {0: Heard.RDP_OLD, 1: Heard.RDP_TLS, 2: Heard.RDP_NLA}.get(chosen)
        return verdict_of(known, ok=True) if known else Verdict(True, "RDP")


class TlsProbe(Probe):
    """HTTPS: a minimal ClientHello is answered by a TLS record, a handshake or an alert (RFC 8446
    section 5.1)."""

    # TLS 1.2 record and hello, zero random (no secret is ever agreed), two common suites, no extensions.
    greeting = bytes.fromhex("16030100310100002d0303" + "00" * 32 + "000006c02fc02b009c0100")

    def judge(self, data: bytes) -> Verdict | None:
        if len(data) < 3:
            return None if data[:1] in (b"", b"\x15", b"\x16") else another(data)
        if data[0] in (0x15, 0x16) and data[1] == 3:
            return Verdict(True, "TLS")
        return another(data)


class AnyProbe(Probe):
    """A service with an unknown protocol: its first bytes, or an open connection without any, is all that can be
    checked."""

    def judge(self, data: bytes) -> Verdict | None:
        return Verdict(True, "answers") if data else None


PROBES: dict[str, type[Probe]] = {
    "ssh": SshProbe,
    "http": HttpProbe,
    "vnc": VncProbe,
    "rdp": RdpProbe,
    "https": TlsProbe,
}


def probe_for(service: str | None) -> Probe:
    """A new probe for a service by its name."""
    return PROBES.get(service or "", AnyProbe)()
