"""Text and key names become key codes."""

import string

import pytest

from dacha.core.errors import UsageError
from dacha.hypervisor.live.keyboard import chord_of_name, chords_of_text


def test_every_printable_character_has_its_keys() -> None:
    for c in string.printable[:95]:
        (chord,) = chords_of_text(c)
        assert len(chord) in (1, 2) and (len(chord) == 1 or chord[0] == "shift")
    assert chords_of_text("aB1!\n") == [["a"], ["shift", "b"], ["1"], ["shift", "1"], ["ret"]]
    assert chords_of_text('~"|') == [["shift", "grave_accent"], ["shift", "apostrophe"], ["shift", "backslash"]]


@pytest.mark.parametrize(
    ("name", "chord"),
    [
        ("enter", ["ret"]),
        ("f12", ["f12"]),
        ("ctrl-alt-delete", ["ctrl", "alt", "delete"]),
        ("page-up", ["pgup"]),
        ("alt-page-down", ["alt", "pgdn"]),
        ("ctrl-c", ["ctrl", "c"]),
        ("X", ["x"]),
    ],
)
def test_keys_have_names(name: str, chord: list[str]) -> None:
    assert chord_of_name(name) == chord


def test_what_no_key_has_is_refused() -> None:
    with pytest.raises(UsageError, match="cannot be typed"):
        chords_of_text("ä")
    with pytest.raises(UsageError, match="unknown key entr") as refused:
        chord_of_name("entr")
    assert "did you mean enter?" in refused.value.remedy
