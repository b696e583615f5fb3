"""Edits keep the file: they mean what they say, and touch nothing else."""

import re
import tomllib
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import LabError
from dacha.core.lab.text.edits import Edit, Remove, Set, as_laid_out, edit_data, prune
from dacha.core.lab.text.text_edits import edit_text
from tests.strategies import lab_texts, names


def edits_for(data: dict[str, Any]) -> st.SearchStrategy[Edit]:
    """Edits as the commands make them, for what is in this lab."""
    door = st.fixed_dictionaries({"from": st.sampled_from(["host", "lan"]), "to": st.integers(1, 65535)})
    made = [
        st.builds(
            lambda n, c: Set(("guest", f"new-{n}"), {"cpus": c, "adapter": [{"network": "x"}]}),
            names,
            st.integers(1, 9),
        ),
        st.builds(lambda n: Set(("network", f"new-{n}"), {"kind": "nat"}), names),
        st.just(Set(("lab", "accelerator"), "tcg")),
        st.builds(lambda n: Set(("lab", "name"), n), names),
    ]
    for name, guest in data.get("guest", {}).items():
        made.append(st.builds(lambda d, g=name: Set(("guest", g, "door", "web"), d), door))
        made.append(st.builds(lambda c, g=name: Set(("guest", g, "cpus"), c), st.integers(1, 64)))
        made.append(st.builds(lambda c, g=name: Set(("guest", g, "start", "order"), c), st.integers(1, 64)))
        made.append(st.just(Remove(("guest", name))))
        made += [st.just(Remove(("guest", name, "door", d))) for d in guest.get("door", {})]
        for key, value in (("adapter", {"network": "y"}), ("disk", {"size": "2 GiB", "bus": "scsi"})):
            if key in guest:
                # One table is a list of one.
                count = len(guest[key]) if isinstance(guest[key], list) else 1
                made.append(st.just(Set(("guest", name, key, 0, "address"), "10.9.0.5")))
                made.append(st.just(Set(("guest", name, key, count), value)))
                made.append(st.just(Remove(("guest", name, key, 0))))
    return st.one_of(made)


@given(lab_texts(), st.data())
def test_parse_after_edit_equals_edit_after_parse(text: str, data: st.DataObject) -> None:
    before = tomllib.loads(text)
    edit = data.draw(edits_for(before))
    after = tomllib.loads(edit_text(text, [edit]))
    if isinstance(edit, Remove):
        prune(after, edit.path)
    assert after == edit_data(before, as_laid_out(before, edit))


@given(lab_texts(), st.data())
def test_comments_and_lines_survive_an_addition(text: str, data: st.DataObject) -> None:
    edit = data.draw(edits_for(tomllib.loads(text)).filter(lambda e: isinstance(e, Set)))
    after = edit_text(text, [edit])
    for line in text.splitlines():
        comment = re.search(r"#.*", line)
        if comment:
            assert comment[0] in after, (edit, line)


@given(lab_texts(), st.data())
def test_a_removal_touches_no_other_table(text: str, data: st.DataObject) -> None:
    guests = list(tomllib.loads(text).get("guest", {}))
    if not guests:
        return
    gone = data.draw(st.sampled_from(guests))
    after = edit_text(text, [Remove(("guest", gone))])
    for name in guests:
        assert (f"[guest.{name}]" in after) == (name != gone)


TEXT = """\
# head
[lab]
name = "x"   # the name

# about a
[guest.a]   # first
cpus = 1    # few
disk = [
  { size = "1 GiB" },   # small
  { size = "2 GiB" },
]

# about b
[guest.b]
door.ssh = { from = "host" }
"""


def test_a_changed_value_changes_one_line() -> None:
    after = edit_text(TEXT, [Set(("guest", "a", "cpus"), 4)])
    assert after == TEXT.replace("cpus = 1    # few", "cpus = 4    # few")


def test_a_removed_guest_takes_its_own_comment_and_no_other() -> None:
    after = edit_text(TEXT, [Remove(("guest", "a"))])
    assert "about a" not in after and "# about b\n[guest.b]" in after and "# head" in after


def test_a_member_of_a_list_is_removed_and_its_neighbours_comments_stay() -> None:
    after = edit_text(TEXT, [Remove(("guest", "a", "disk", 1))])
    assert after == TEXT.replace('  { size = "2 GiB" },\n', "")
    assert tomllib.loads(after)["guest"]["a"]["disk"] == [{"size": "1 GiB"}]


SPREAD = """\
[guest.a]
login = {
  user = "ops",  # one
  # about keys
  keys = ["a.pub"],
  shell.path = "/bin/sh"  # last
}
cpus = 1
"""


@pytest.mark.parametrize(
    ("edit", "gone", "there"),
    [
        (Remove(("user",)), '  user = "ops",  # one\n', ""),
        (Remove(("keys",)), '  keys = ["a.pub"],\n', ""),
        (Remove(("shell", "path")), '  shell.path = "/bin/sh"  # last\n', ""),
        (Set(("user",), "kim"), '"ops"', '"kim"'),
        (Set(("port",), 3), '"/bin/sh"', '"/bin/sh", port = 3'),
    ],
)
def test_a_table_over_several_lines_keeps_them(edit: Edit, gone: str, there: str) -> None:
    """As TOML has it from 1.1 on."""
    edit = edit._replace(path=("guest", "a", "login", *edit.path))
    assert edit_text(SPREAD, [edit]) == SPREAD.replace(gone, there)
    one_line = "a = { b = 1, c = [1, 2], d = 3 }  # said\n"
    assert edit_text(one_line, [Remove(("a", "c"))]) == "a = { b = 1, d = 3 }  # said\n"
    assert edit_text(one_line, [Remove(("a", "c", 1))]) == "a = { b = 1, c = [1], d = 3 }  # said\n"
    assert edit_text(one_line, [Remove(("a", "c", 0))]) == "a = { b = 1, c = [2], d = 3 }  # said\n"


def test_a_door_goes_where_the_other_doors_are() -> None:
    after = edit_text(TEXT, [Set(("guest", "b", "door", "web"), {"from": "lan", "to": 80})])
    assert after.endswith('door.ssh = { from = "host" }\ndoor.web = { from = "lan", to = 80 }\n')


def test_a_layout_that_cannot_be_edited_is_refused_with_the_line_to_write() -> None:
    with pytest.raises(LabError) as refused:
        edit_text('guest = { a = { cpus = 1 } }\n[lab]\nname = "x"\n', [Set(("guest", "a", "disk", 3), "x")])
    assert "guest.a.disk.3" in refused.value.what


def test_an_edit_that_names_nothing_is_an_error() -> None:
    with pytest.raises(KeyError):
        edit_text(TEXT, [Remove(("guest", "zzz"))])
