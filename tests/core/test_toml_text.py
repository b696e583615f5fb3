"""Places of keys: they must agree with what the standard library reads from the same text."""

import tomllib
from typing import Any

from hypothesis import given

from dacha.core.findings import Path
from dacha.core.lab.text.layout import Places, key_text, statements, value_places, value_text
from tests.strategies import lab_texts

AWKWARD = r'''
title = "a # no comment [x]"   # a comment with "quotes"
long = """
first
"" still # inside
"""
raw = '''
AWKWARD += "'''\nback\\slash\n'''\n"
AWKWARD += r"""
dates = [ 1979-05-27T07:32:00Z, 07:32:00,  # one
  [1.5e3, +inf], [ ], # two
]
"quoted key" . 'other' = { a.b = 1, "c d" = [ { e = true }, {} ] }
[[list]]
n = 1
[list.inner]
m = 2
[[list]]
n = 3
[[list.deep]]
k = "\"x\\"
"""


def leaves(value: Any, path: Path = ()) -> set[Path]:
    if isinstance(value, dict) and value:
        return set().union(*(leaves(v, (*path, k)) for k, v in value.items()))
    if isinstance(value, list) and value:
        return set().union(*(leaves(v, (*path, n)) for n, v in enumerate(value)))
    return {path}


def found(text: str) -> dict[Path, str]:
    spans = {}
    for s in statements(text):
        if not s.header:
            for path, start, end in value_places(text, s.value_start, s.path):
                spans[path] = text[start:end]
    return spans


def lookup(data: Any, path: Path) -> Any:
    for step in path:
        data = data[step]
    return data


def test_every_value_of_an_awkward_text_is_found_with_its_exact_span() -> None:
    data = tomllib.loads(AWKWARD)
    spans = found(AWKWARD)
    assert leaves(data) <= set(spans)
    for path, text in spans.items():
        assert tomllib.loads(f"v = {text}")["v"] == lookup(data, path), path


@given(lab_texts())
def test_every_value_of_a_lab_is_found_with_its_exact_span(text: str) -> None:
    data = tomllib.loads(text)
    spans = found(text)
    empty_tables = {p for p in leaves(data) if lookup(data, p) == {}}
    assert leaves(data) - empty_tables <= set(spans)
    for path, value in spans.items():
        assert tomllib.loads(f"v = {value}")["v"] == lookup(data, path)


def test_lines_point_at_keys_and_fall_back_to_what_holds_them() -> None:
    places = Places('[lab]\nname = "x"\n\n[guest.g]\nadapter = [\n  { network = "a" },\n  { network = "b" },\n]\n')
    assert places.line(("lab", "name")) == 2
    assert places.line(("guest", "g")) == 4
    assert places.line(("guest", "g", "adapter", 1, "network")) == 7
    assert places.line(("guest", "g", "adapter", 1, "address")) == 7
    assert places.line(("guest", "g", "memory")) == 4
    assert places.line(("nowhere",)) is None


def test_values_and_keys_are_written_so_that_they_read_back() -> None:
    value = {"a b": ['x"y', "back\\slash", "tab\t\x7f"], "n": 5, "t": True, "empty": {}, "half": 0.5}
    assert tomllib.loads(f"v = {value_text(value)}")["v"] == value
    assert key_text(("guest", "a.b", "c-d")) == 'guest."a.b".c-d'
