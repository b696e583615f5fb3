"""Sizes and times as people write them."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core import units
from dacha.core.errors import BadValue


@pytest.mark.parametrize(
    ("text", "amount"),
    [
        ("512 MiB", 512 << 20),
        ("8GiB", 8 << 30),
        ("1.5 GiB", 3 << 29),
        (" 2 TiB ", 2 << 40),
        ("100 MB", 100_000_000),
        ("64 kib", 64 << 10),
        ("7 B", 7),
    ],
)
def test_sizes_are_read(text: str, amount: int) -> None:
    assert units.size(text) == amount


@pytest.mark.parametrize(
    ("value", "what", "remedy"),
    [
        (512, "has no unit", '"512 MiB"'),
        ("512", "has no unit", '"512 MiB" or "512 GiB"'),
        ("2G", "ambiguous unit G", '"2 GiB"'),
        ("8 GXB", "unknown unit GXB", "KiB, MiB, GiB, TiB"),
        ("-1 GiB", "is not a size", "number and a unit"),
        ("", "is not a size", "number and a unit"),
        (True, "is not a size", "number and a unit"),
        (None, "is not a size", "number and a unit"),
    ],
)
def test_a_wrong_size_says_what_and_how(value: object, what: str, remedy: str) -> None:
    with pytest.raises(BadValue) as refused:
        units.size(value)
    assert what in refused.value.what
    assert remedy in refused.value.remedy


@given(st.integers(1, 1 << 45))
def test_a_shown_size_reads_back_within_its_rounding(amount: int) -> None:
    assert units.size(units.show_size(amount)) == pytest.approx(amount, rel=0.06)


def test_memory_is_whole_mib_and_enough() -> None:
    assert units.memory("1 GiB") == 1 << 30
    for wrong in ("1 MiB", "16.5 MiB", "100 MB"):
        with pytest.raises(BadValue):
            units.memory(wrong)


def test_a_disk_is_whole_sectors() -> None:
    assert units.disk_size("10 MB") % 512 == 0
    with pytest.raises(BadValue):
        units.disk_size("1 KiB")


@pytest.mark.parametrize(("text", "seconds"), [("30 s", 30), ("2min", 120), ("500 ms", 0.5), ("1 h", 3600), ("0s", 0)])
def test_times_are_read(text: str, seconds: float) -> None:
    assert units.duration(text) == seconds


@pytest.mark.parametrize("wrong", [30, "30", "soon", "3 weeks", "9999 h", None])
def test_a_wrong_time_is_refused_with_a_remedy(wrong: object) -> None:
    with pytest.raises(BadValue) as refused:
        units.duration(wrong)
    assert "min" in refused.value.remedy


@pytest.mark.parametrize(
    ("seconds", "text"),
    [(0.02, "20 ms"), (4.0, "4 s"), (4.26, "4.3 s"), (75, "75 s"), (720, "12 min"), (7300, "2 h"), (4e5, "5 d")],
)
def test_times_are_shown_as_people_say_them(seconds: float, text: str) -> None:
    assert units.show_duration(seconds) == text
