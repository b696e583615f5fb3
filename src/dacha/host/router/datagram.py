"""Requests to the router in single datagrams: PCP, and its predecessor NAT-PMP.

A router on the LAN answers within milliseconds, so requests are repeated much sooner than after the RFCs' three
seconds, and given up after `PATIENCE_S`.
"""

from __future__ import annotations

import contextlib
import os
import socket
import time
from collections.abc import Callable, Sequence
from ipaddress import IPv4Address
from typing import TypeVar

from dacha.core.errors import AnswerNo, PeerError
from dacha.core.router.mapping import Mapping, MappingRequest
from dacha.host.router.port_mapper import Granted, Seen
from dacha.wire.router import nat_pmp, pcp

# Intervals between repetitions in seconds, doubling as in RFC 6886 section 3.1; then it gives up.
AGAIN_S, PATIENCE_S = 0.25, 1.75
SHUT = "it does not support this protocol"
T = TypeVar("T")


def _ask(router: str, source: str, data: bytes, read: Callable[[bytes], T | None]) -> T:
    """Send a datagram until `read` accepts an answer. Raises AnswerNo if none arrives."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        try:
            if source:
                s.bind((source, 0))
            s.connect(
                (router, pcp.SERVER_PORT)
            )  # connected: only that peer's answers are received (RFC 6887 section 8.1)
            began, wait = time.monotonic(), AGAIN_S
            while (now := time.monotonic()) < began + PATIENCE_S:
                s.send(data)
                until, wait = min(now + wait, began + PATIENCE_S), wait * 2
                while (left := until - time.monotonic()) > 0:
                    s.settimeout(left)
                    with contextlib.suppress(TimeoutError, PeerError):
                        found = read(s.recv(pcp.LONGEST + 1))
                        if found is not None:
                            return found
        except ConnectionRefusedError:
            raise AnswerNo(SHUT) from None
        except OSError as e:
            raise AnswerNo(e.strerror or str(e)) from e
    raise AnswerNo("it does not respond")


class _ByDatagram:
    """Common parts of both datagram protocols: they cannot query the target of a mapping."""

    def __init__(self, router: str, source: str) -> None:
        self._router, self._source = router, source

    def lookup(self, mappings: Sequence[Mapping]) -> None:
        return None


class Pcp(_ByDatagram):
    """Port Control Protocol, RFC 6887."""

    name = "pcp"

    def _request(self, request: pcp.Request, source: str) -> pcp.Response:
        def read(data: bytes) -> pcp.Response | None:
            answer, asked = pcp.decode_response(data), request.map
            if answer.result == pcp.UNSUPPORTED_VERSION:
                return answer  # another version has an unknown format
            told = answer.map
            if asked is None or told is None:
                return answer if asked is told else None
            same = (told.nonce, told.protocol, told.internal_port) == (asked.nonce, asked.protocol, asked.internal_port)
            return answer if same else None

        answer = _ask(self._router, source, pcp.encode_request(request), read)
        if answer.result != pcp.SUCCESS:
            raise AnswerNo(pcp.RESULTS.get(answer.result, f"it reports result code {answer.result}"))
        return answer

    def look(self) -> Seen:
        return Seen("", self._request(pcp.Request(IPv4Address(self._source)), self._source).epoch_s)

    def map(self, wanted: MappingRequest, known: Mapping | None, lifetime_s: int) -> Granted:
        nonce = bytes.fromhex(known.nonce) if known and known.nonce else os.urandom(12)
        port = known.outside_port if known else wanted.outside_port
        answer = self._exchange(wanted, nonce, port, lifetime_s)
        assert answer.map is not None
        if wanted.fixed and answer.map.external_port != wanted.outside_port:
            # PREFER_FAILURE would report it at once, but not every server supports it.
            self._exchange(wanted, nonce, 0, 0)
            raise AnswerNo(pcp.RESULTS[pcp.CANNOT_PROVIDE])
        address = str(answer.map.external_address)
        return Granted(answer.map.external_port, address, answer.lifetime_s, answer.epoch_s, nonce.hex())

    def _exchange(self, wanted: MappingRequest, nonce: bytes, port: int, lifetime_s: int) -> pcp.Response:
        # The request contains the client's address: the one to be mapped, unless it is another machine's.
        source = self._source if wanted.third else wanted.to
        protocol = pcp.UDP if wanted.protocol == "udp" else pcp.TCP
        mapped = pcp.Map(nonce, protocol, wanted.port, port)
        third = IPv4Address(wanted.to) if wanted.third else None
        answer = self._request(pcp.Request(IPv4Address(source), lifetime_s, mapped, third), source)
        if answer.map is None:
            raise AnswerNo("unexpected answer")
        return answer

    def unmap(self, mapping: Mapping) -> None:
        self._exchange(mapping.wanted, bytes.fromhex(mapping.nonce), 0, 0)


class NatPmp(_ByDatagram):
    """NAT Port Mapping Protocol, RFC 6886."""

    name = "nat-pmp"

    def _request(self, request: nat_pmp.Request, source: str) -> nat_pmp.Response:
        def read(data: bytes) -> nat_pmp.Response | None:
            answer = nat_pmp.decode_response(data)
            mine = answer.opcode == request.opcode and answer.internal_port in (0, request.internal_port)
            return answer if mine else None

        answer = _ask(self._router, source, nat_pmp.encode_request(request), read)
        if answer.result != nat_pmp.SUCCESS:
            raise AnswerNo(nat_pmp.RESULTS.get(answer.result, f"it reports result code {answer.result}"))
        return answer

    def look(self) -> Seen:
        answer = self._request(nat_pmp.Request(nat_pmp.OUTSIDE_ADDRESS), self._source)
        return Seen(str(answer.address), answer.epoch_s)

    def map(self, wanted: MappingRequest, known: Mapping | None, lifetime_s: int) -> Granted:
        if wanted.third:
            raise AnswerNo(pcp.RESULTS[pcp.UNSUPPORTED_OPTION])
        port = known.outside_port if known else wanted.outside_port
        answer = self._exchange(wanted, port, lifetime_s)
        if wanted.fixed and answer.external_port != wanted.outside_port:
            self._exchange(wanted, 0, 0)
            raise AnswerNo(pcp.RESULTS[pcp.CANNOT_PROVIDE])
        return Granted(answer.external_port, self.look().address, answer.lifetime_s, answer.epoch_s, "")

    def _exchange(self, wanted: MappingRequest, port: int, lifetime_s: int) -> nat_pmp.Response:
        opcode = nat_pmp.MAP_UDP if wanted.protocol == "udp" else nat_pmp.MAP_TCP
        # The router maps to the sender: a door on one address of this host must be requested from there.
        return self._request(nat_pmp.Request(opcode, wanted.port, port, lifetime_s), wanted.to)

    def unmap(self, mapping: Mapping) -> None:
        self._exchange(mapping.wanted, 0, 0)
