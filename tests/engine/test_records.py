"""Records: older ones are read with what they lack filled in, newer ones refused, damaged ones made again."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from dacha.core.apply.machine import machine_from
from dacha.core.apply.machine_changes import changed
from dacha.core.errors import HostError
from dacha.engine.guest.passwords import hashes
from dacha.engine.home import Home
from dacha.engine.network import live, rollback
from dacha.engine.router import mappings
from dacha.host.records import read_record, write_record


def test_a_record_comes_back_and_a_newer_one_is_refused(tmp_path: Path) -> None:
    file = tmp_path / "x.json"
    write_record(file, 2, {"made": [1]})
    assert read_record(file, 2) == {"version": 2, "made": [1]}
    with pytest.raises(HostError, match="newer dacha"):
        read_record(file, 1)
    file.write_text('{"version": "later"}')
    with pytest.raises(HostError, match="newer dacha"):
        read_record(file, 2)


def test_a_damaged_or_missing_record_is_none_and_an_older_form_is_read(tmp_path: Path) -> None:
    file = tmp_path / "x.json"
    assert read_record(file, 1) == {}
    for text in ("", "{", "7", '"x"', "[1]"):
        file.write_text(text)
        assert read_record(file, 1) == {}
    assert read_record(file, 1, "process") == {"process": [1]}
    file.write_text('{"made": 1}')
    assert read_record(file, 1) == {"made": 1}


def test_a_machine_of_an_older_record_is_filled_in() -> None:
    old = machine_from({"guest": "gauge", "memory_mib": 512, "adapters": [{"network": "pier"}]})
    assert old["boot_order"] == ["disk", "medium"] and old["tpm"] is False and old["adapters"][0]["tap"] is None
    new = machine_from(dict(old) | {"memory_mib": 1024})
    assert changed(old, new) == [("memory_mib", "memory 512 MiB → 1 GiB")]
    assert changed(old, machine_from(dict(old))) == []


def test_a_guests_record_of_before_is_understood(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("DACHA_STATE", str(tmp_path))
    home = Home("pier")
    home.guest("gauge").mkdir(parents=True)
    (home.guest("gauge") / "guest.json").write_text(json.dumps({"left_off": True, "machine": {"guest": "gauge"}}))
    record = home.read("gauge")
    assert record.stopped_on_purpose and record.machine and record.machine["drives"] == [] and record.uid is None
    home.write("gauge", record)
    assert json.loads((home.guest("gauge") / "guest.json").read_text())["version"] == 1
    assert home.read("gauge") == record


RECORDS: list[tuple[str, dict[str, Any], Callable[[Home], object]]] = [
    ("lab.json", {"lab_file": "/srv/pier/lab.toml"}, Home.owner),
    ("seen.json", {"seen": [["gauge", 0, "10.77.4.20", 1.0, 2.0, "wire", ["fd77:4::20"]]]}, live.read),
    (
        "router.json",
        {"router": "192.0.2.1", "asked": [["gauge", "ssh", "tcp", 2210, "192.0.2.10", 2210]], "refused": [],
         "mappings": [{"wanted": ["gauge", "ssh", "tcp", 2210, "192.0.2.10", 2210], "outside_port": 2210, "nonce": "",
                       "made": 1.0, "lifetime_s": 7200.0}]},
        mappings.read,
    ),
    ("guests/gauge/passwords.json", {"users": {"ops": "x"}}, lambda home: hashes(home, "gauge")),
    ("rollback.json", {"move": ["br7", "eth0", 0.0]}, rollback.waiting),
    (
        "guests/gauge/guest.json",
        {"process": [1, 2, "x"], "machine": {"guest": "gauge", "adapters": [{"network": "pier"}]}, "again": 1},
        lambda home: home.read("gauge"),
    ),
]  # fmt: skip


def damaged(value: Any) -> Iterator[Any]:
    """The value with one thing in it another one, everywhere in turn."""
    yield from (None, 5, "x", [], {}, [None], float("inf"), "fd77::1%x")
    for key in value if isinstance(value, dict) else range(len(value)) if isinstance(value, list) else ():
        for other in damaged(value[key]):
            made = value.copy()
            made[key] = other
            yield made


@pytest.mark.parametrize(("name", "value", "read"), RECORDS, ids=[name for name, _, _ in RECORDS])
def test_what_a_record_never_says_is_no_defect(
    name: str, value: dict[str, Any], read: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("DACHA_STATE", str(tmp_path))
    home = Home("pier")
    file = home.folder / name
    file.parent.mkdir(parents=True)
    file.write_text(json.dumps(value))
    good = read(home)
    assert name == "rollback.json" or good
    for text in ("[" * 100_000, "\ufeff", *map(json.dumps, damaged(value))):
        file.write_text(text)
        read(home)
    file.write_text(json.dumps(value))
    assert str(read(home)) == str(good) or name.endswith("guest.json")
