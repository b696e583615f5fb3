"""TFTP, the reading side of a server, as a state machine: datagrams and time in, datagrams out (RFC 1350; options by
RFC 2347, 2348, 2349 and 7440). It opens no socket and reads no clock; a function provides the file's bytes. Time is in
seconds, monotonic."""

from __future__ import annotations

import struct
from collections.abc import Callable
from enum import IntEnum

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple
from dacha.core.units import whole_number

PORT = 69
# A block fits into one Ethernet frame (1500 - 20 - 8 - 4), to avoid fragments; the window is limited to what a slow
# client's buffer holds.
BLOCK_MOST, WINDOW_MOST = 1468, 16
BLOCK_USUAL = 512
TIMEOUT_S, TRIES_MOST = 1.0, 6
# A request is one name, one mode and a handful of options.
REQUEST_MOST = 512


class Code(IntEnum):
    """Types of datagrams (RFC 1350 section 5, RFC 2347)."""

    READ = 1
    WRITE = 2
    DATA = 3
    ACK = 4
    ERROR = 5
    OPTIONS = 6


class Fault(IntEnum):
    """Error codes (RFC 1350 section 5, RFC 2347)."""

    OTHER = 0
    NOT_FOUND = 1
    ACCESS = 2
    ILLEGAL = 4
    UNKNOWN_TRANSFER = 5
    OPTION = 8


class Request(NamedTuple):
    """A read request; `options` by lower-case name."""

    path: str
    options: dict[str, str]


class Refused(PeerError):
    """A request that is answered with an error."""

    def __init__(self, fault: Fault, what: str) -> None:
        super().__init__(what)
        self.fault = fault


def decode_request(data: bytes) -> Request:
    """Read a request. Raises Refused for one that needs an error as its answer, PeerError for anything else."""
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
    """A read request, as a client sends it."""
    words = [path, "octet", *(word for name, value in options.items() for word in (name, str(value)))]
    return struct.pack(">H", Code.READ) + b"".join(w.encode() + b"\0" for w in words)


def encode_error(fault: Fault, what: str) -> bytes:
    return struct.pack(">HH", Code.ERROR, fault) + what.encode()[:200] + b"\0"


def encode_ack(block: int) -> bytes:
    return struct.pack(">HH", Code.ACK, block & 0xFFFF)


class Transfer:
    """The transfer of one file to one client. `begin`, `receive` and `expire` return what to send; `due` is when to
    call `expire`, None at the end."""

    def __init__(self, request: Request, size: int, read: Callable[[int, int], bytes]) -> None:
        """`read` returns that many bytes of the file from an offset."""
        self._size, self._read = size, read
        self._block, self._window, self._timeout = BLOCK_USUAL, 1, TIMEOUT_S
        self._granted = self._grant(request.options)
        # Blocks count from 1; the file ends with a block that is not full (RFC 1350 section 6).
        self._last = size // self._block + 1
        # The last block that was acknowledged, and the last that was sent; with options, block 0 is their answer.
        self._done, self._sent = (-1, 0) if self._granted else (0, 0)
        self._tries = 0
        self.due: float | None = None
        self.failed = ""

    def _grant(self, asked: dict[str, str]) -> dict[str, int]:
        """The accepted options, with their values; invalid ones are ignored (RFC 2347)."""
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
        """The answer to a client's datagram. Invalid datagrams are ignored."""
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
            # Delayed or duplicated: answering it would duplicate every block from then on (RFC 1123 section 4.2.3.1).
            return []
        self._done, self._tries = block, 0
        if self._done >= self._last:
            self._end("")
            return []
        return self._go_on(now)

    def expire(self, now: float) -> list[bytes]:
        """Timeout: send unacknowledged blocks again, or give up."""
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
        """True if the client has the whole file."""
        return self.due is None and not self.failed

    def _told(self, number: int) -> int | None:
        """The block for a 16-bit number: the one in the current window. (Numbers wrap after 65535.)"""
        if self._done < 0:
            return 0 if number == 0 else None
        block = self._done + ((number - self._done) & 0xFFFF)
        return block if block <= self._sent else None

    def _go_on(self, now: float) -> list[bytes]:
        """The blocks of the next window, after the acknowledged one."""
        first = self._done + 1
        self._sent = min(self._last, self._done + self._window)
        self.due = now + self._timeout
        start = (first - 1) * self._block
        body = self._read(start, (self._sent - first + 1) * self._block)
        # A file that was truncated in the meantime ends early, and its client notices.
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
