"""Requests of firmware for files, and what else comes instead of them (RFC 9112, RFC 9110)."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.wire.http import HEAD_MOST, Refused, Request, answer, decode_request, part, quote, refusal, unquote


def request(line: str, *fields: str) -> Request:
    return decode_request("".join(f"{x}\r\n" for x in (line, *fields, "")).encode())


def test_what_firmware_asks_for_is_read_and_answered() -> None:
    asked = request("HEAD /boot/bootx64.efi HTTP/1.1", "Host: 10.77.4.1", "User-Agent: UefiHttpBoot/1.0")
    assert asked == Request("boot/bootx64.efi", None, None, head=True, goes_on=True)
    assert answer(asked, 1000) == (
        b"HTTP/1.1 200 OK\r\nContent-Length: 1000\r\nContent-Type: application/efi\r\nAccept-Ranges: bytes\r\n\r\n"
    )
    asked = request("GET http://10.77.4.1/a%20b%2Bc?x#y HTTP/1.0", "range: bytes=10-19")
    assert asked == Request("a b+c", 10, 19, head=False, goes_on=False)
    assert part(asked, 1000) == (10, 10)
    assert b"206 Partial Content" in answer(asked, 1000) and b"Content-Range: bytes 10-19/1000" in answer(asked, 1000)
    assert b"Connection: close" in answer(asked, 1000)


@pytest.mark.parametrize(
    ("text", "where"),
    [("bytes=0-", (0, 100)), ("bytes=90-200", (90, 10)), ("bytes=-30", (70, 30)), ("bytes=-300", (0, 100)),
     ("bytes=1-2,5-6", (0, 100)), ("lines=1-2", (0, 100))],
)  # fmt: skip
def test_a_range_is_the_part_that_it_says_and_others_are_left_alone(text: str, where: tuple[int, int]) -> None:
    assert part(request("GET /a HTTP/1.1", f"Range: {text}"), 100) == where


@pytest.mark.parametrize(
    ("lines", "status"),
    [
        (("POST /a HTTP/1.1",), 405), (("GET /a HTTP/2.0",), 505), (("GET a HTTP/1.1",), 400),
        (("GET  /a HTTP/1.1",), 400),
        (("GET /a HTTP/1.1", "Content-Length: 5"), 400), (("GET /a HTTP/1.1", "Transfer-Encoding: chunked"), 400),
        (("GET /a HTTP/1.1", " folded: field"), 400), (("GET /a%00b HTTP/1.1",), 400), (("hello",), 400),
    ],
)  # fmt: skip
def test_what_is_no_request_for_a_file_is_refused_by_its_status(lines: tuple[str, ...], status: int) -> None:
    with pytest.raises(Refused) as refused:
        request(*lines)
    assert refused.value.status == status and f" {status} ".encode() in refusal(status)


def test_a_range_beyond_the_end_is_refused() -> None:
    for text, size in (("bytes=100-", 100), ("bytes=5-4", 100), ("bytes=0-", 0)):
        with pytest.raises(Refused) as refused:
            part(request("GET /a HTTP/1.1", f"Range: {text}"), size)
        assert refused.value.status == 416


@given(st.binary(max_size=HEAD_MOST))
def test_any_bytes_are_a_request_or_refused(data: bytes) -> None:
    try:
        found = decode_request(data)
    except Refused as e:
        assert refusal(e.status).startswith(b"HTTP/1.1 ")
    else:
        assert "\0" not in found.path and not found.path.startswith("/")


@given(st.text(st.characters(exclude_categories=["Cs"])))
def test_a_path_comes_through_a_url_as_it_is(path: str) -> None:
    assert unquote(quote(path)) == path and quote("boot/grub/x86_64-efi/core.efi") == "boot/grub/x86_64-efi/core.efi"


def test_a_range_is_of_a_get_alone_and_a_refusal_says_how_long_the_file_is() -> None:
    """RFC 9110 sections 14.1.2, 14.2 and 15.5.17."""
    head = decode_request(b"HEAD /x HTTP/1.1\r\nHost: a\r\nRange: bytes=5-9\r\n\r\n")
    assert (head.first, head.last) == (None, None) and answer(head, 100).startswith(b"HTTP/1.1 200")
    for asked, size in (("bytes=-0", 100), ("bytes=200-", 100), ("bytes=-5", 0)):
        with pytest.raises(Refused) as refused:
            part(decode_request(f"GET /x HTTP/1.1\r\nHost: a\r\nRange: {asked}\r\n\r\n".encode()), size)
        told = refusal(refused.value.status, size=refused.value.size)
        assert b" 416 " in told and f"Content-Range: bytes */{size}\r\n".encode() in told


@pytest.mark.parametrize(("options", "goes_on"), [("Keep-Alive, close", False), ("Close", False), ("Keep-Alive", True)])
def test_a_connection_ends_where_one_of_its_options_says_so(options: str, goes_on: bool) -> None:
    request = decode_request(f"GET /x HTTP/1.1\r\nHost: a\r\nConnection: {options}\r\n\r\n".encode())
    assert request.goes_on is goes_on
