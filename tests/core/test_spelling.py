"""A name is proposed only for one that may be meant by it."""

from __future__ import annotations

import pytest

from dacha.core.spelling import did_you_mean, nearest


@pytest.mark.parametrize(
    ("word", "meant"), [("gague", "gauge"), ("peer", "pier"), ("dbian", "debian"), ("memroy", "memory")]
)
def test_a_letter_or_two_away_is_meant(word: str, meant: str) -> None:
    assert nearest(word, ("gauge", "pier", "debian", "memory", "status")) == meant


@pytest.mark.parametrize(
    ("word", "known"), [("frobnicate", "probe"), ("fir", "birch"), ("shed", "gauge"), ("", "pier")]
)
def test_what_is_not_close_is_not_proposed(word: str, known: str) -> None:
    assert did_you_mean(word, [known]) == f"known here: {known}"
