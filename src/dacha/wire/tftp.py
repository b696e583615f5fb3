"""TFTP, the reading side of a server, as a state machine: datagrams and time in, datagrams out (RFC 1350; options by
RFC 2347, 2348, 2349 and 7440).

It opens no socket and reads no clock; the file's bytes come from a function. Time is seconds, monotonic.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from enum import IntEnum

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.core.units import whole_number

PORT = 69
# A block is as long as one datagram of an Ethernet frame takes (1500 - 20 - 8 - 4), longer ones would be fragments; so
# many may be under way at once, which a slow client's buffer still takes.
BLOCK_MOST, WINDOW_MOST = 1468, 16
BLOCK_USUAL = 512
TIMEOUT_S, TRIES_MOST = 1.0, 6
# A request is one name, one mode and a handful of options.
REQUEST_MOST = 512


class Code(IntEnum):
    """What a datagram is (RFC 1350 section 5, RFC 2347)."""

    READ = 1
    WRITE = 2
    DATA = 3
    ACK = 4
    ERROR = 5
    OPTIONS = 6


class Fault(IntEnum):
    """Why a transfer ends (RFC 1350 section 5, RFC 2347)."""

    OTHER = 0
    NOT_FOUND = 1
    ACCESS = 2
    ILLEGAL = 4
    UNKNOWN_TRANSFER = 5
    OPTION = 8


class Request(NamedTuple):
    """Somebody wants to read a file; `options` are theirs by lower-case name."""

    path: str
    options: dict[str, str]


class Refused(PeerError):
    """A request that is answered by an error."""

    def __init__(self, fault: Fault, what: str) -> None:
        super().__init__(what)
        self.fault = fault


def decode_request(data: bytes) -> Request:
    """Read a request. Raises Refused for one that is to be answered by an error, PeerError for what is none."""
    if len(data) < 2 or len(data) > REQUEST_MOST:
        raise PeerError(f"TFTP: invalid request length: {len(data)} bytes")
    code = int.from_bytes(data[:2], "big")
    if code == Code.WRITE:
        raise Refused(Fault.ACCESS, "only read requests are allowed")
    if code != Code.READ:
        raise PeerError(f"TFTP: opcode {code} is not a request")
    if data[-1:] != b"\0":
        raise Refused(Fault.ILLEGAL, "the request is not terminated")
    words = data[2:-1].split(b"\0")
    if len(words) < 2 or len(words) % 2:
        raise Refused(Fault.ILLEGAL, "a request has a name, a mode and pairs of options")
    try:
        path, mode, *rest = (w.decode("utf-8") for w in words)
    except UnicodeDecodeError:
        raise Refused(Fault.ILLEGAL, "the request is not text") from None
    if mode.lower() != "octet":
        raise Refused(Fault.ILLEGAL, f"mode {mode[:20]} is not supported, use octet")
    if not path or any(ord(c) < 32 for c in path):
        raise Refused(Fault.ACCESS, "not a file name")
    return Request(path, {name.lower(): value for name, value in zip(rest[::2], rest[1::2], strict=True)})


def encode_request(path: str, options: dict[str, int]) -> bytes:
    """A request to read, as a client sends it."""
    words = [path, "octet", *(word for name, value in options.items() for word in (name, str(value)))]
    return struct.pack(">H", Code.READ) + b"".join(w.encode() + b"\0" for w in words)


def encode_error(fault: Fault, what: str) -> bytes:
    return struct.pack(">HH", Code.ERROR, fault) + what.encode()[:200] + b"\0"


def encode_ack(block: int) -> bytes:
    return struct.pack(">HH", Code.ACK, block & 0xFFFF)


class Transfer:
    """One file on its way to one client. `begin`, `receive` and `expire` give what to send; `due` is when `expire` is
    to be called, None once it has ended."""

    def __init__(self, request: Request, size: int, read: Callable[[int, int], bytes]) -> None:
        """`read` gives so many bytes of the file from an offset on."""
        self._size, self._read = size, read
        self._block, self._window, self._timeout = BLOCK_USUAL, 1, TIMEOUT_S
        self._granted = self._grant(request.options)
        # Blocks count from 1; the file ends with one that is not full (RFC 1350 section 6).
        self._last = size // self._block + 1
        # The last block that came in order, and the last that was sent; with options block 0 is their answer.
        self._done, self._sent = (-1, 0) if self._granted else (0, 0)
        self._tries = 0
        self.due: float | None = None
        self.failed = ""

    def _grant(self, asked: dict[str, str]) -> dict[str, int]:
        """The options that are granted, with their values; one that makes no sense is passed over (RFC 2347)."""
        granted: dict[str, int] = {}
        for name, low, high, most in (
            ("blksize", 8, 65464, BLOCK_MOST), ("timeout", 1, 255, 255), ("windowsize", 1, 65535, WINDOW_MOST),
        ):  # fmt: skip
            value = whole_number(asked.get(name, ""))
            if value is not None and low <= value <= high:
                granted[name] = min(value, most)
        if "tsize" in asked:
            granted["tsize"] = self._size
        self._block = granted.get("blksize", BLOCK_USUAL)
        self._window = granted.get("windowsize", 1)
        self._timeout = float(granted.get("timeout", TIMEOUT_S))
        return granted

    def begin(self, now: float) -> list[bytes]:
        if self._granted:
            self.due = now + self._timeout
            return [self._options()]
        return self._go_on(now)

    def receive(self, data: bytes, now: float) -> list[bytes]:
        """What a datagram of the client is answered by. One that is no answer changes nothing."""
        if self.due is None or len(data) < 4:
            return []
        code, number = struct.unpack_from(">HH", data)
        if code == Code.ERROR:
            self._end("the client aborted the transfer")
            return []
        if code != Code.ACK:
            self._end("the client does not speak TFTP")
            return [encode_error(Fault.ILLEGAL, "an acknowledgement was expected")]
        block = self._told(number)
        if block is None or (block == self._done and self._window == 1):
            # Of long ago, or said twice: answered, each block would be sent twice from then on (RFC 1123 4.2.3.1).
            return []
        self._done, self._tries = block, 0
        if self._done >= self._last:
            self._end("")
            return []
        return self._go_on(now)

    def expire(self, now: float) -> list[bytes]:
        """The time is over: once more what was not acknowledged, or the end."""
        if self.due is None or now < self.due:
            return []
        self._tries += 1
        if self._tries >= TRIES_MOST:
            self._end("the client does not respond")
            return []
        if self._done < 0:
            self.due = now + self._timeout
            return [self._options()]
        return self._go_on(now)

    @property
    def done(self) -> bool:
        """True when the client has all of it."""
        return self.due is None and not self.failed

    def _told(self, number: int) -> int | None:
        """The block that a number of 16 bits stands for: the one of those under way. (They begin again after 65535.)"""
        if self._done < 0:
            return 0 if number == 0 else None
        block = self._done + ((number - self._done) & 0xFFFF)
        return block if block <= self._sent else None

    def _go_on(self, now: float) -> list[bytes]:
        """The blocks of the next window, from the one behind what is acknowledged."""
        first = self._done + 1
        self._sent = min(self._last, self._done + self._window)
        self.due = now + self._timeout
        start = (first - 1) * self._block
        body = self._read(start, (self._sent - first + 1) * self._block)
        # A file that became shorter meanwhile ends early, and its client sees that it is not whole.
        return [
            struct.pack(">HH", Code.DATA, n & 0xFFFF) + body[at : at + self._block]
            for n, at in zip(
                range(first, self._sent + 1), range(0, self._window * self._block, self._block), strict=False
            )
        ]

    def _options(self) -> bytes:
        words = (word for name, value in self._granted.items() for word in (name, str(value)))
        return struct.pack(">H", Code.OPTIONS) + b"".join(w.encode() + b"\0" for w in words)

    def _end(self, why: str) -> None:
        self.due, self.failed = None, why
