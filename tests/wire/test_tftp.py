"""TFTP: requests of every kind, and whole files over a wire that loses, doubles and delays."""

from __future__ import annotations

import contextlib
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.wire.tftp import (
    BLOCK_MOST,
    Code,
    Fault,
    Refused,
    Request,
    Transfer,
    decode_request,
    encode_ack,
    encode_error,
    encode_request,
)


class Client:
    """A client by the RFCs: acknowledges the last block in order at the end of a window, and after a gap."""

    def __init__(self, block: int = 512, window: int = 1) -> None:
        self.block, self.window, self.got, self.done, self.since = block, window, b"", 0, 0
        self.ended = False

    def receive(self, data: bytes) -> list[bytes]:
        code = int.from_bytes(data[:2], "big")
        if code == Code.OPTIONS:
            return [encode_ack(0)] if not self.done else []
        assert code == Code.DATA, data[:40]
        number, body = int.from_bytes(data[2:4], "big"), data[4:]
        if self.ended:
            return [encode_ack(self.done)]  # it dallies, should its last word have been lost
        if number != (self.done + 1) & 0xFFFF:
            gap, self.since = self.since != -1, -1
            return [encode_ack(self.done)] if gap else []
        self.got += body
        self.done, self.since = self.done + 1, max(self.since, 0) + 1
        self.ended = len(body) < self.block
        if self.ended or self.since >= self.window:
            self.since = 0
            return [encode_ack(self.done)]
        return []


def carry(body: bytes, options: dict[str, int], lose: float, seed: int) -> tuple[Transfer, Client, int]:
    """A transfer over such a wire, in simulated time: the transfer, the client, and the datagrams that were sent."""
    chance = random.Random(seed)
    request = decode_request(encode_request("core.0", options))
    transfer = Transfer(request, len(body), lambda at, length: body[at : at + length])
    client = Client(min(options.get("blksize", 512), BLOCK_MOST), min(options.get("windowsize", 1), 16))
    now, sent = 0.0, 0
    under_way = transfer.begin(now)
    for _ in range(200_000):
        if transfer.due is None:
            return transfer, client, sent
        back = []
        for datagram in under_way:
            sent += 1
            if chance.random() >= lose:
                back += client.receive(datagram)
                if chance.random() < lose / 4:
                    back += client.receive(datagram)
        under_way = []
        for datagram in back:
            if chance.random() >= lose:
                now += 0.001
                under_way += transfer.receive(datagram, now)
        if not under_way and transfer.due is not None:
            now = transfer.due
            under_way = transfer.expire(now)
    raise AssertionError("it does not end")


@pytest.mark.parametrize("size", [0, 1, 511, 512, 513, 1024, 100_000])
@pytest.mark.parametrize(
    "options",
    [{}, {"blksize": 1024}, {"blksize": 65464, "tsize": 0}, {"windowsize": 4, "blksize": 512}, {"windowsize": 99}],
)
def test_a_file_arrives_whole(size: int, options: dict[str, int]) -> None:
    body = random.Random(size).randbytes(size)
    transfer, client, sent = carry(body, options, 0.0, 1)
    assert client.got == body and transfer.done
    # Nothing is sent twice on a wire that loses nothing.
    assert sent == size // client.block + 1 + bool(options)


@given(size=st.integers(0, 9000), lose=st.floats(0, 0.3), seed=st.integers(0, 999), window=st.integers(1, 20))
def test_a_file_arrives_whole_over_a_bad_wire_or_its_end_is_known(
    size: int, lose: float, seed: int, window: int
) -> None:
    body = bytes(n % 251 for n in range(size))
    transfer, client, _ = carry(body, {"windowsize": window}, lose, seed)
    assert body.startswith(client.got)
    if transfer.done:
        assert client.got == body
    else:
        assert transfer.failed == "the client does not respond"


def test_blocks_are_counted_on_behind_65535() -> None:
    body = bytes(8 * 70_000)
    transfer, client, sent = carry(body, {"blksize": 8, "windowsize": 16}, 0.0, 1)
    assert len(client.got) == len(body) and transfer.done and sent == 70_002


def test_what_is_asked_wrongly_is_answered_and_what_is_no_request_is_not() -> None:
    for data, fault in (
        (b"\0\2x\0octet\0", Fault.ACCESS), (b"\0\1x\0octet", Fault.ILLEGAL), (b"\0\1x\0", Fault.ILLEGAL),
        (b"\0\1x\0netascii\0", Fault.ILLEGAL), (b"\0\1\0octet\0", Fault.ACCESS), (b"\0\1a\nb\0octet\0", Fault.ACCESS),
        (b"\0\1x\0octet\0blksize\0", Fault.ILLEGAL), (b"\0\1\xff\xfe\0octet\0", Fault.ILLEGAL),
    ):  # fmt: skip
        with pytest.raises(Refused) as e:
            decode_request(data)
        assert e.value.fault == fault, data
        assert encode_error(fault, e.value.what)[:4] == bytes((0, 5, 0, fault))
    for data in (b"", b"\0", b"\0\3\0\1x", b"\0\4\0\1", b"\0\1" + b"x" * 600):
        with pytest.raises(PeerError) as other:
            decode_request(data)
        assert not isinstance(other.value, Refused), data
    found = decode_request(b"\0\1a/b\0OcTeT\0BLKSIZE\x001024\0tsize\x000\0")
    assert found == Request("a/b", {"blksize": "1024", "tsize": "0"})


@given(data=st.binary(max_size=80))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    with contextlib.suppress(PeerError):
        decode_request(data)


@given(words=st.lists(st.binary(max_size=12), max_size=6), options=st.dictionaries(st.sampled_from(
    ["blksize", "timeout", "windowsize", "tsize", "x"]), st.text(max_size=6)))  # fmt: skip
def test_no_answer_of_a_client_brings_a_transfer_down(words: list[bytes], options: dict[str, str]) -> None:
    transfer = Transfer(Request("x", options), 3000, lambda at, length: bytes(3000)[at : at + length])
    now = 0.0
    transfer.begin(now)
    for word in words:
        transfer.receive(word, now)
        if transfer.due is not None:
            now = transfer.due
            transfer.expire(now)


def test_a_client_that_is_silent_or_has_enough_is_let_go() -> None:
    transfer = Transfer(Request("x", {}), 10, lambda at, length: b"0123456789"[at : at + length])
    first = transfer.begin(0.0)
    assert first == [b"\0\3\0\1" + b"0123456789"]
    assert transfer.expire(0.5) == [], "not yet"
    for n in range(1, 6):
        assert transfer.due is not None and transfer.expire(transfer.due) == first, n
    assert transfer.due is not None and transfer.expire(transfer.due) == [] and transfer.due is None
    assert transfer.failed == "the client does not respond"
    transfer = Transfer(Request("x", {"tsize": "0", "blksize": "4"}), 10, lambda at, length: b"")
    assert transfer.begin(0.0) == [b"\0\6tsize\x0010\0"], "a block of four bytes is none that is granted"
    assert transfer.receive(encode_error(Fault.OTHER, "thanks"), 0.1) == [] and not transfer.done
    transfer = Transfer(Request("x", {}), 10, lambda at, length: b"")
    transfer.begin(0.0)
    assert transfer.receive(b"\0\1x\0octet\0", 0.1)[0][:4] == bytes((0, 5, 0, Fault.ILLEGAL))
