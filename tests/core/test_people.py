"""People: read, judged, and their keys put into accounts by a script that a real shell runs."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.lab.model import Lab
from dacha.core.lab.person import is_key
from dacha.core.lab.table.read import read_lab
from dacha.core.lab.text.text_edits import edit_text
from dacha.core.people.accounts import accounts, edits_without, own_accounts
from dacha.core.people.check import check_people
from dacha.core.people.keys_inside import KeyChange, WantedKeys, after, key_changes, named, read_answers, script
from dacha.core.people.ways import never_let_in, places_of, rows_of
from dacha.core.plan.plan import make_plan
from dacha.core.reach.reach import reach

TEXT = """[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
[guest.gauge]
disk = [{ size = "1 GiB" }]
adapter = [{ network = "pier" }]
login = { user = "ops", keys = ["ops.pub"] }
setup = { user = [{ name = "jo", keys = ["jo.pub"] }] }
door.ssh = { from = "lan" }
door.http = { from = "host" }
[guest.desk]
disk = [{ size = "1 GiB" }]
adapter = [{ network = "pier" }]
door.rdp = { from = "host" }
[person.mara]
keys = ["mara.pub"]
enters = ["gauge", "desk rdp"]
[person.kim]
keys = ["kim.pub"]
enters = "all"
user = "kim"
from = "host"
"""


def lab_of(text: str) -> Lab:
    reading = read_lab(text)
    assert reading.lab and not reading.findings, reading.findings
    return reading.lab


@pytest.mark.parametrize(
    ("written", "key"),
    [("ssh-ed25519 AAAA kim", True), ("sk-ssh-ed25519@openssh.com AAAA", True), ("ssh-keys/kim.pub", False),
     ("ssh-keys/kim's key.pub", False), ("ssh-kim.pub", False), ("", False)],
)  # fmt: skip
def test_a_path_that_begins_like_a_key_is_a_path(written: str, key: bool) -> None:
    assert is_key(written) is key


def test_people_are_read_and_have_accounts_where_they_may_enter() -> None:
    lab = lab_of(TEXT)
    gauge, desk = lab.guests["gauge"], lab.guests["desk"]
    assert accounts(lab, gauge) == {"ops": ["ops.pub", "mara.pub"], "jo": ["jo.pub"], "kim": ["kim.pub"]}
    # By remote desktop alone no key is needed, and without a login there is no account but an own one.
    assert accounts(lab, desk) == {"kim": ["kim.pub"]}
    assert own_accounts(lab, gauge) == {"kim"} and own_accounts(lab, desk) == {"kim"}
    kim = lab.people["kim"]
    assert kim.may_enter(desk, "rdp") and kim.enters_by_ssh(desk) and places_of(kim) == ["host"]
    mara = lab.people["mara"]
    assert mara.may_enter(desk) and not mara.enters_by_ssh(desk) and not mara.may_enter(desk, "http")


def test_what_is_wrong_with_people_is_said_with_its_line() -> None:
    wrong = TEXT.replace('"gauge", "desk rdp"', '"gaug", "desk ssh"').replace('["kim.pub"]', "[]")
    found = {f.code: f for f in check_people(lab_of(wrong))}
    assert "gauge" in found["person-guest"].remedy and found["person-guest"].path == ("person", "mara", "enters", 0)
    assert found["person-door"].remedy == "did you mean rdp?" or "rdp" in found["person-door"].remedy
    assert "has no key" in found["person-keys"].what and "--with-key" in found["person-keys"].remedy
    found = {f.code: f for f in check_people(lab_of(TEXT.replace("kim.pub", "mara.pub")))}
    assert "same key as mara" in found["person-key-twice"].what
    nobody = TEXT.replace('enters = "all"\nuser = "kim"', 'enters = ["desk", "gauge"]')
    assert "has no account in desk" in next(f.what for f in check_people(lab_of(nobody)) if f.code == "person-account")
    idle = TEXT.replace('enters = "all"\n', "")
    assert [f.severity for f in check_people(lab_of(idle)) if f.code == "person-nothing"] == ["note"]
    for bad, said in (
        ('enters = ["a b c"]', "names neither a guest nor a door"),
        ("enters = [5]", "names neither a guest nor a door"),
        ('from = "moon"', "unknown value"), ('user = "Mara B"', "user name"), ('colour = "blue"', "unknown key"),
    ):  # fmt: skip
        assert said in str(read_lab(f'[lab]\nname = "a"\n[person.mara]\n{bad}\n').findings), bad


def test_where_people_get_in_follows_from_the_doors() -> None:
    lab = lab_of(TEXT)
    rows = reach(lab, make_plan(lab))
    mine = rows_of(lab, lab.people["mara"], rows)
    assert [(r.guest, r.service, r.doors) for r in mine] == [
        ("gauge", "ssh", ("ssh",)), ("gauge", "http", ("http",)), ("desk", "rdp", ("rdp",))
    ]  # fmt: skip
    shut = [f.what for f in never_let_in(lab, rows)]
    assert shut == [
        "cannot enter gauge http from the LAN: door from this host only",
        "cannot enter desk rdp from the LAN: door from this host only",
    ]


def test_a_guest_that_goes_or_is_renamed_takes_what_people_enter_with_it() -> None:
    lab = lab_of(TEXT)
    assert lab_of(edit_text(TEXT, edits_without(lab, "desk"))).people["mara"].enters == (("gauge", None),)
    assert edits_without(lab, "gauge", "ssh") == [], "who may enter all of a guest enters none of its doors by name"
    renamed = lab_of(edit_text(TEXT.replace("guest.desk", "guest.table"), edits_without(lab, "desk", now="table")))
    assert [str(e) for e in renamed.people["mara"].enters] == ["gauge", "table rdp"]


def test_what_changes_in_a_guest_is_what_differs() -> None:
    a, b, c = "ssh-ed25519 AAAA a", "ssh-ed25519 BBBB b", "ssh-ed25519 CCCC c"
    wanted = WantedKeys({"ops": [a, b], "kim": [c]}, frozenset({"kim"}), people=True)
    changes = key_changes({"ops": [a, c]}, (), wanted, told=True)
    assert changes == [KeyChange("ops", (b,), (c,)), KeyChange("kim", (c,), own=True)]
    assert after({"ops": [a, c]}, changes) == {"ops": [a, b], "kim": [c]}
    assert key_changes(after({"ops": [a, c]}, changes), ["kim"], wanted, told=True) == []
    # One who leaves is shut out with the account; what others have stays.
    left = key_changes({"ops": [a], "kim": [c]}, ["kim"], WantedKeys({"ops": [a]}), told=True)
    assert left == [KeyChange("kim", take=(c,), own=True, shut=True)] and after({"kim": [c]}, left) == {}
    # Another login is made by its first boot; until then nobody is shut out of the one that is there.
    assert key_changes({"ops": [a]}, (), WantedKeys({"mara": [a]}), told=False) == []
    assert key_changes({"ops": [a], "mara": [a]}, (), WantedKeys({"mara": [a]}), told=True) == [
        KeyChange("ops", take=(a,))
    ]
    # A guest that did not answer may have what it was asked to take: it is put in once more, or taken out.
    maybe = {"ops": [b], "kim": [c]}
    assert key_changes({"ops": [a]}, ["kim"], WantedKeys({"ops": [a]}), told=True, unsure=maybe) == [
        KeyChange("ops", take=(b,)), KeyChange("kim", take=(c,), own=True, shut=True)
    ]  # fmt: skip
    assert key_changes({"ops": [a]}, (), WantedKeys({"ops": [a, b]}), told=True, unsure=maybe)[0] == KeyChange(
        "ops", (b,)
    )
    # A guest from before keys were noted is left alone until somebody is named for it.
    assert key_changes(None, (), WantedKeys({"ops": [a]}), told=True) == []
    assert key_changes(None, (), WantedKeys({"ops": [a]}, people=True), told=True) == [KeyChange("ops", (a,))]
    assert named(a) == "a" and named("ssh-ed25519 AAAABBBBCCCCDDDD") == "…CCCCDDDD"


KEYS = st.lists(st.sampled_from([f"ssh-ed25519 {x * 4} {x}" for x in "ABCDE"]), unique=True, max_size=4)


@given(
    had=st.dictionaries(st.sampled_from("pqrs"), KEYS, max_size=3),
    wanted=st.dictionaries(st.sampled_from("pqrs"), KEYS),
)
def test_changes_once_made_leave_nothing_to_change(had: dict[str, list[str]], wanted: dict[str, list[str]]) -> None:
    own = [a for a in {*had, *wanted} if a in "rs"]
    should = WantedKeys(wanted, frozenset(a for a in wanted if a in own), people=True)
    changes = key_changes(had, own, should, told=True)
    now = after(had, changes)
    assert key_changes(now, [a for a in own if a in now], should, told=True) == []
    gone = {k for lines in had.values() for k in lines} - {k for lines in wanted.values() for k in lines}
    assert not gone & {k for a, lines in now.items() if a in wanted or a in own for k in lines}


def in_a_system(folder: Path, text: str) -> str:
    """What the script says as root of a system of its own: /etc, /home and root's own folder are copies."""
    script_file = folder / "script"
    script_file.write_text(text)
    setting = "for d in etc home root; do mount --bind $0/$d /$d; done; exec sh < $0/script"
    done = subprocess.run(
        ["unshare", "-m", "sh", "-c", setting, str(folder)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done
    return done.stdout


def test_the_script_makes_accounts_puts_keys_in_and_shuts_them(tmp_path: Path) -> None:
    subprocess.run(["cp", "-a", "/etc", tmp_path / "etc"], check=True)
    for name in ("home", "root"):
        (tmp_path / name).mkdir()
    keys = tmp_path / "home/tidekim/.ssh/authorized_keys"
    a, b = 'ssh-ed25519 AAAA kim\'s "first" `key` $HOME', "ssh-ed25519 BBBB kim two"
    said = read_answers(in_a_system(tmp_path, script([KeyChange("tidekim", (a, b), own=True)])))
    assert said == {"tidekim": ""}
    assert keys.read_text() == f"{a}\n{b}\n" and keys.stat().st_mode & 0o777 == 0o600
    # What somebody else wrote there stays, options in front of a key or not; a key that is there is not put twice.
    keys.write_text(f'# mine\nfrom="10.0.0.0/8" {a}\n{b}\nssh-rsa EEEE other\n')
    root = "ssh-ed25519 RRRR root"
    said = read_answers(
        in_a_system(tmp_path, script([KeyChange("tidekim", (b,), (a,), own=True), KeyChange("root", (root,))]))
    )
    assert said == {"tidekim": "", "root": ""}
    assert keys.read_text() == f"# mine\n{b}\nssh-rsa EEEE other\n"
    assert (tmp_path / "root/.ssh/authorized_keys").read_text() == f"{root}\n"
    # A link that the account laid leads root nowhere: its file is written as the account itself.
    (tmp_path / "root/.ssh/authorized_keys").chmod(0o600)
    keys.parent.rename(keys.parent.with_name("old"))
    keys.parent.symlink_to("/root/.ssh")
    said = read_answers(
        in_a_system(tmp_path, script([KeyChange("tidekim", (a,), own=True), KeyChange("nosuch", (a,))]))
    )
    assert said == {"tidekim": "its file of keys could not be written", "nosuch": "it has no such account"}
    assert (tmp_path / "root/.ssh/authorized_keys").read_text() == f"{root}\n"
    keys.parent.unlink()
    keys.parent.with_name("old").rename(keys.parent)
    said = read_answers(in_a_system(tmp_path, script([KeyChange("tidekim", take=(b,), own=True, shut=True)])))
    assert said == {"tidekim": ""} and keys.read_text() == "# mine\nssh-rsa EEEE other\n"
    assert any(line.split(":")[0] == "tidekim" and line.split(":")[7] == "1"
               for line in (tmp_path / "etc/shadow").read_text().splitlines())  # fmt: skip


def test_what_a_guest_says_is_read_with_care() -> None:
    assert read_answers("account ops done\n") is None, "cut off before its end"
    text = "noise\naccount ops done\naccount ops it failed\naccount kim\naccount\nend of keys\n"
    assert read_answers(text) == {"ops": "it failed", "kim": "it could not be done"}


KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ9ZkmcQ3FyG1gkjm0tCNvmUXnEWv4xkBbJGnKb0Vb3n"


def test_a_key_is_the_same_whatever_is_written_behind_it() -> None:
    """Of two people with one key the first leaves: it stays for the second, and the record says so."""
    had = {"ops": [f"{KEY} mara@pier"]}
    both = WantedKeys({"ops": [f"{KEY} mara@pier", f"{KEY} kim@pier"]}, people=True)
    one = WantedKeys({"ops": [f"{KEY} kim@pier"]}, people=True)
    none = WantedKeys({"ops": ["ssh-ed25519 BBBB else"]}, people=True)
    assert key_changes(had, (), both, told=True) == key_changes(had, (), one, told=True) == []
    (change,) = key_changes(had, (), none, told=True)
    assert change.take == (f"{KEY} mara@pier",) and after(had, [change]) == {"ops": ["ssh-ed25519 BBBB else"]}
    (change,) = key_changes({"ops": []}, (), both, told=True)
    assert change.put == (f"{KEY} mara@pier",), "once is enough"


def test_somebody_who_comes_back_has_the_account_as_it_was_made(tmp_path: Path) -> None:
    """By a real shell and the real programs, on a copy of this machine's accounts."""
    subprocess.run(["cp", "-a", "/etc", tmp_path / "etc"], check=True)
    own = KeyChange("tide-kim", put=(f"{KEY} kim",), own=True)
    steps = [script([c]) for c in (own, KeyChange("tide-kim", take=(f"{KEY} kim",), own=True, shut=True), own)]
    for n, text in enumerate(steps):
        (tmp_path / f"step{n}").write_text(text)
    runs = "; ".join(f"sh {tmp_path}/step{n} > {tmp_path}/said; grep '^tide-kim:' /etc/shadow" for n in range(3))
    mounts = f"mount --bind {tmp_path}/etc /etc && mount -t tmpfs none /home"
    done = subprocess.run(
        ["unshare", "-m", "sh", "-c", f"{mounts} && {runs}"], capture_output=True, text=True, check=True, timeout=60
    )
    made, shut, back = (line.split(":") for line in done.stdout.splitlines())
    assert "account tide-kim done" in (tmp_path / "said").read_text()
    assert shut[1] == f"!{made[1]}" and shut[7] == "1", "locked and expired"
    assert back[1] == made[1] == "*" and back[7] == made[7] == ""
