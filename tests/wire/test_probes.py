"""Probes: what a service's first words mean, byte by byte."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.heard import Heard
from dacha.wire.probes import FIRST_WORDS_MOST, PROBES, probe_for, verdict_of

# Service, its first words, the verdict, and after how many bytes it is certain.
SPOKEN = [
    ("ssh", b"SSH-2.0-dropbear_2022.83\r\n", True, "SSH-2.0-dropbear_2022.83"),
    ("ssh", b"Welcome to the pier\r\nSSH-2.0-OpenSSH_9.2\r\n", True, "SSH-2.0-OpenSSH_9.2"),
    ("ssh", b"SSH-1.5-old\n", False, "SSH-1.5-old: not SSH version 2"),
    ("http", b"HTTP/1.1 200 OK\r\n", True, "HTTP/1.1 200"),
    ("http", b"HTTP/1.0 404 Not Found\r\n", True, "HTTP/1.0 404"),
    ("http", b"SSH-2.0-x\r\n", False, "speaks another protocol: SSH"),
    ("http", b"HELLO tides\r\n", False, 'speaks another protocol: it begins with "HELLO tides"'),
    ("vnc", b"RFB 003.008\n", True, "RFB 003.008"),
    ("vnc", b"SSH-2.0-x\r\n..", False, "speaks another protocol: SSH"),
    ("rdp", bytes.fromhex("030000130ed000001234000200080001000000"), True, "RDP, TLS"),
    ("rdp", bytes.fromhex("030000130ed000001234000200080002000000"), True, "RDP, network level authentication"),
    ("rdp", bytes.fromhex("0300000b06d00000123400"), True, "RDP, old security"),
    (
        "rdp",
        bytes.fromhex("030000130ed000001234000300080005000000"),
        True,
        "RDP, with a security protocol that was not offered",
    ),
    ("rdp", bytes.fromhex("0300000b06800000123400"), False, "refuses the connection request"),
    ("https", bytes.fromhex("15030300020228"), True, "TLS"),
    ("https", bytes.fromhex("160303003d"), True, "TLS"),
    ("https", b"HTTP/1.1 400", False, "speaks another protocol: HTTP"),
    ("http", bytes.fromhex("15030100020246"), False, "speaks another protocol: TLS"),
    (None, b"220 hello\r\n", True, "answers"),
]


@pytest.mark.parametrize(("service", "words", "ok", "seen"), SPOKEN)
def test_first_words_are_judged_whole_and_byte_by_byte(service: str | None, words: bytes, ok: bool, seen: str) -> None:
    whole = probe_for(service).receive(words)
    assert whole and (whole.ok, whole.seen) == (ok, seen)
    slow = probe_for(service)
    verdicts = [v for n in range(len(words)) if (v := slow.receive(words[n : n + 1]))]
    assert verdicts and verdicts[-1 if "begins" in seen else 0] == whole
    assert probe_for(service).receive(words + b"\0junk behind it") == whole


@pytest.mark.parametrize("service", list(PROBES))
def test_a_service_that_closes_or_never_ends_is_no_answer(service: str) -> None:
    assert probe_for(service).closed() == verdict_of(Heard.CLOSED)
    verdict = probe_for(service).receive(b"\x03" + b"x" * FIRST_WORDS_MOST)
    assert verdict is not None and not verdict.ok


@given(st.sampled_from([*PROBES, None]), st.lists(st.binary(max_size=60), max_size=8))
def test_any_bytes_are_judged_without_an_error(service: str | None, pieces: list[bytes]) -> None:
    probe = probe_for(service)
    for piece in pieces:
        if probe.receive(piece):
            return
    assert not probe.closed().ok


def test_a_client_hello_has_consistent_lengths() -> None:
    hello = PROBES["https"].greeting
    assert int.from_bytes(hello[3:5], "big") == len(hello) - 5
    assert int.from_bytes(hello[6:9], "big") == len(hello) - 9
    rdp = PROBES["rdp"].greeting
    assert int.from_bytes(rdp[2:4], "big") == len(rdp) and rdp[4] == len(rdp) - 5
