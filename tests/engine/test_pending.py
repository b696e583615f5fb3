"""What apply would still do, and what is said of it, without a guest and without a host's privileges."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from dacha.core.apply.changes import kind_of
from dacha.core.errors import LabError, UsageError
from dacha.core.network.door_ways import way_lines
from dacha.engine.apply.pending import pending_changes
from dacha.engine.caretaker import process, unit
from dacha.engine.lab.named import door_named, guest_named, network_named
from dacha.engine.lab.origins import values_of
from dacha.engine.network import rules
from dacha.engine.network.links import wanted_links
from dacha.engine.reach.status import gather
from dacha.engine.scoped import scoped
from dacha.engine.workspace import Workspace, load, load_or_applied

TEXT = """\
[lab]
name = "lab"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
system = "debian"
memory = "1 GiB"
start = { order = 2 }
disk = [{ size = "8 GiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
[guest.charts]
memory = "2 GiB"
start = { order = 1 }
adapter = [{ network = "pier" }]
"""


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    for name in ("STATE", "RUN", "SHARED"):
        monkeypatch.setenv(f"DACHA_{name}", str(tmp_path / name.lower()))
    tmp_path.chmod(0o700)
    return tmp_path


def lab(folder: Path, text: str = TEXT) -> Workspace:
    file = folder / "lab.toml"
    file.write_text(text)
    return load(str(file))


def test_from_nothing_all_is_pending_and_guests_start_in_their_order(folder: Path) -> None:
    changes = pending_changes(lab(folder))
    kinds = [kind_of(c) for c in changes]
    assert kinds[0] == "write-down" and str(changes[0]) == "guest charts adapter: address = 10.77.4.10"
    assert [(kind_of(c), c.guest) for c in changes if kind_of(c) == "start-guest"] == [
        ("start-guest", "charts"),
        ("start-guest", "gauge"),
    ]
    assert kinds.index("make-disk") < kinds.index("start-guest")
    assert "caretaker" not in kinds and "load-rules" not in kinds


def test_a_guest_that_was_stopped_on_purpose_is_left_off(folder: Path) -> None:
    ws = lab(folder)
    ws.home.guest("gauge").mkdir(parents=True)
    record = ws.home.read("gauge")
    record.stopped_on_purpose = True
    ws.home.write("gauge", record)
    assert [c.guest for c in pending_changes(ws) if kind_of(c) == "start-guest"] == ["charts"]


def test_what_concerns_some_guests_leaves_the_others_as_they_were_applied(folder: Path) -> None:
    ws = lab(folder)
    ws.home.folder.mkdir(parents=True)
    ws.home.applied.write_text(TEXT.replace("10.77.4.20", "10.77.4.9"))
    only = scoped(ws, {"charts"})
    assert str(only.lab.guests["gauge"].adapters[0].address) == "10.77.4.9"
    assert str(scoped(ws, {"gauge"}).lab.guests["gauge"].adapters[0].address) == "10.77.4.20"


@pytest.mark.skipif(os.geteuid() != 0, reason="kernel networks are root's")
def test_doors_between_what_is_loaded_and_what_should_be(folder: Path) -> None:
    ws = lab(folder, TEXT.replace('kind = "nat"', 'kind = "nat"\nbackend = "kernel"'))
    assert rules.moved(ws, ws.plan) == ((("gauge", "ssh"),), ())
    text = rules.text_of(ws, ws.plan, wanted_links(ws, ws.plan))
    ws.home.folder.mkdir(parents=True)
    rules.begin(ws)
    rules._note(
        ws,
        {"text": rules._digest(text), "doors": "\n".join(way_lines(ws.plan)), "rules": "as it shows"},
    )
    assert rules.moved(ws, ws.plan) == ((), ())
    assert rules.current(ws, text, "as it shows") and not rules.current(ws, text, "changed by hand")
    moved = lab(folder, TEXT.replace('kind = "nat"', 'kind = "nat"\nbackend = "kernel"').replace("2220", "2221"))
    assert rules.moved(moved, moved.plan) == ((("gauge", "ssh"),), ())
    gone = lab(folder, TEXT.replace('kind = "nat"', 'kind = "nat"\nbackend = "kernel"').replace("door.ssh", "#"))
    assert rules.moved(gone, gone.plan) == ((), (("gauge", "ssh"),))


def test_status_of_a_lab_that_is_off(folder: Path) -> None:
    status = gather(lab(folder))
    assert [(g.name, g.state) for g in status.guests] == [("gauge", "off"), ("charts", "off")]
    assert status.guests[0].doors[0].now == "guest is off" and status.guests[0].doors[0].ok is None
    assert status.exposed == status.unserved == status.still_open == []


def test_every_value_says_where_it_comes_from(folder: Path) -> None:
    ws = lab(folder)
    found = {v.key: (v.shown, v.source) for v in values_of(ws, ws.lab.guests["gauge"])}
    assert found["memory"] == ("1 GiB", "lab.toml:8") and found["system"][1] == "lab.toml:7"
    assert found["cpus"][1].startswith("profile debian") or found["cpus"][1] == "Dacha's default"
    assert found["adapter 0 address"] == ("10.77.4.20/24", "lab.toml:11")
    assert found["adapter 0 hardware"][1] == "the plan"


def test_what_is_named_wrongly_comes_with_the_nearest(folder: Path) -> None:
    ws = lab(folder)
    assert guest_named(ws, "gauge").name == "gauge" and door_named(ws, "gauge", None).name == "ssh"
    for ask, what, remedy in (
        (lambda: guest_named(ws, "guage"), "no guest guage", "gauge"),
        (lambda: network_named(ws, "peer"), "no network peer", "pier"),
        (lambda: door_named(ws, "gauge", "shs"), "gauge has no door shs", "ssh"),
        (lambda: door_named(ws, "charts", None), "charts has no door", "dacha door add charts ssh"),
    ):
        with pytest.raises(UsageError) as refused:
            ask()
        assert what in refused.value.what and remedy in refused.value.remedy


def test_a_wrong_file_keeps_nobody_from_what_was_applied(folder: Path) -> None:
    ws = lab(folder)
    assert load_or_applied(str(ws.path))[1] == ""
    ws.home.folder.mkdir(parents=True)
    ws.home.describe(ws.path)
    ws.home.applied.write_text(TEXT)
    ws.path.write_text("[lab]\nname = 7\n")
    kept, word = load_or_applied(str(ws.path))
    assert (
        list(kept.lab.guests) == ["gauge", "charts"]
        and "lab.toml has errors" in word
        and "the last applied version" in word
    )
    ws.home.applied.unlink()
    with pytest.raises(LabError):
        load_or_applied(str(ws.path))


def test_where_a_service_manager_keeps_the_caretaker_that_one_starts_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    told: list[tuple[str, ...]] = []
    monkeypatch.setenv("DACHA_STATE", str(tmp_path))
    monkeypatch.setattr(unit, "installed", lambda lab: lab == "pier")
    monkeypatch.setattr(unit, "_managed", lambda: True)
    monkeypatch.setattr(unit, "_systemctl", lambda *words: told.append(words))
    monkeypatch.setattr(process, "running", lambda home: told)
    monkeypatch.setattr("subprocess.Popen", lambda *given, **more: pytest.fail("nothing else starts it"))
    (tmp_path / "lab.toml").write_text('[lab]\nname = "pier"\n')
    process.start(load(str(tmp_path / "lab.toml")))
    assert told == [("start", "dacha-pier.service")]
    assert not unit.start("vault"), "another lab's is nobody's"
