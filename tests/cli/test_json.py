"""Every command's answer for scripts: there is one, it has a version, its schema holds, and errors have their code.

That every answer of every other test holds too is seen to where `dacha` is run (`tests/json_answers.py`).
"""

from __future__ import annotations

import json
import re
from importlib import import_module
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from dacha.cli.commands import BY_NAME, COMMANDS
from dacha.formats.openssh import key_pair
from tests.conftest import Lab
from tests.json_answers import command_of, schemas

LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
system = "debian"
disk = [{ size = "4 GiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
login = { user = "ops", keys = ["id.pub"] }
door.ssh = { from = "host", port = 2271 }
door.web = { service = "http", from = "lan", port = 8071 }
"""
# In this order, each with its exit code (None: whatever this host makes of it).
ASKED: tuple[tuple[str, int | None], ...] = (
    ("check", None), ("diff", None), ("host", None), ("status", None), ("reach", 0), ("map", 0), ("trace gauge", 1),
    ("probe 127.0.0.1:9 --as ssh", 1), ("guest list", 0), ("guest show gauge", 0), ("guest edit gauge --cpus 2", 0),
    ("guest add desk --kernel x --anyway", 0), ("guest rename desk table", 0), ("guest remove table", 0),
    ("guest password gauge --make", 0), ("guest first-boot gauge", 0), ("guest host-key gauge", 1),
    ("guest check gauge", 1), ("guest adopt gauge", 2), ("guest update gauge", 0), ("guest answers gauge", None),
    ("network list", 0), ("network show pier", 0),
    ("network add quay", 0), ("network edit quay --isolated", 0), ("network remove quay", 0), ("door list", 0),
    ("door add gauge rdp", 0), ("door edit gauge rdp --from lan", 0), ("door remove gauge rdp", 0), ("share list", 0),
    ("snapshot list", 0), ("guest copy gauge heron", 2),
    ("snapshot restore first gauge", 2),
    ("share add gauge tides --folder tides", 0), ("share edit gauge tides --read-only", 0),
    ("share show gauge tides", 0),
    ("share remove gauge tides", 0),
    ("person add mara --key id.pub --enter gauge --from host", 0), ("person edit mara --enter all", 0),
    ("key show", 2), ("key renew", 2),
    ("person list", 0), ("person show mara", 0), ("handout --for mara", 0), ("person remove mara", 0),
    ("address list", 0), ("address propose pier", 0), ("address check 10.77.4.20", 1),
    ("media add tide.img --name tide", 0), ("media list", 0), ("media find --example", 0),
    ("media show tide", 0), ("media check tide", 0), ("media insert gauge tide", 0), ("media eject gauge", 0),
    ("media remove tide", 0),
    ("connect gauge", 1), ("screen gauge", 1), ("start gauge --no-wait", 0), ("stop gauge --force --wait 0s", 0),
    ("restart gauge --no-wait --force --wait 0s", 0), ("pause gauge", 0), ("resume gauge", 0),
    ("snapshot add first gauge", 0), ("snapshot list", 0), ("guest copy gauge heron", 0), ("guest remove heron", 0),
    ("guest archives", 0), ("guest archives --make", 0), ("guest passphrase gauge", 2),
    ("guest save gauge gauge.guest", 0), ("guest load gauge.guest --check", 0), ("guest load gauge.guest", 2),
    ("snapshot restore first gauge --yes --no-start", 0), ("snapshot remove first gauge", 0),
    ("start gauge --no-wait", 0),
    ("apply --no-wait", 0), ("status", None), ("stop gauge --force --wait 0s", 0), ("guest compact gauge", 0),
    ("caretaker status", 0),
    ("log", 0),
    ("caretaker stop", None), ("lab list", 0), ("lab show saltmarsh", None),
    ("lab remove saltmarsh --with-disks --yes", None),
    ("lab move saltmarsh --file moved.toml", None), ("lab rename saltmarsh pier", None), ("new saltmarsh", 2),
)  # fmt: skip
# They run on, or change this host beyond the lab.
LEFT_OUT = {"caretaker run", "caretaker install", "caretaker remove"}


def in_json() -> set[str]:
    """Every command and action that answers in JSON."""
    found = set()
    for command in COMMANDS:
        if command.example:
            found |= {command.name} if "json" in command.common else set()
            continue
        actions = import_module(f"dacha.cli.{command.module}").ACTIONS
        found |= {f"{command.name} {a.name}" for a in actions if "json" in a.common}
    return found


def test_every_command_answers_scripts(lab: Lab) -> None:
    lab.write(LAB)
    (lab.folder / "id.pub").write_text(key_pair(b"m" * 32, "mara@pier")[1])
    (lab.folder / "tides").mkdir()
    (lab.folder / "tide.img").write_bytes(bytes(1 << 20))
    seen = set()
    for words, code in ASKED:
        said = lab(*words.split(), "--json", code=code, timeout=240)
        assert said.out, words
        # (The log has an object in each line.)
        answer = json.loads(said.out.splitlines()[0]) if words == "log" else said.json
        assert answer["version"] == 1, words
        if "error" in answer:
            assert answer["error"]["exit_code"] == said.code and answer["error"]["what"] in said.err, words
        seen.add(command_of((*words.split(), "--json")))
    assert seen | LEFT_OUT >= in_json()
    assert in_json() <= set(schemas()["answers"]) | LEFT_OUT, "every one has its schema"


@pytest.mark.parametrize(
    ("words", "error", "code"),
    [(["status"], "usage", 2), (["guest", "show", "nobody"], "usage", 2), (["guest", "list"], "lab-file", 2)],
)
def test_every_refusal_has_its_code(lab: Lab, words: list[str], error: str, code: int) -> None:
    if words != ["status"]:
        lab.write(LAB if error == "usage" else LAB + "colour = 5\n")
    said = lab(*words, "--json", code=code).json["error"]
    assert ((said["code"], said["exit_code"]) == (error, code) and said["remedy"]) or said["findings"]


def test_the_schemas_say_what_they_mean() -> None:
    whole = schemas()
    assert whole["$schema"] == jsonschema.Draft202012Validator.META_SCHEMA["$id"]
    for name, schema in whole["answers"].items():
        jsonschema.Draft202012Validator.check_schema(schema)
        assert "version" in schema["required"], name

    def keys(value: Any) -> set[str]:
        inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
        own = set(value.get("properties", ())) if isinstance(value, dict) else set()
        return own.union(*map(keys, inner))

    # One vocabulary: each word is explained, and what has a unit says it.
    page = (Path(__file__).parent.parent.parent / "docs/json.md").read_text()
    for key in sorted(keys(whole)):
        assert re.fullmatch(r"[a-z0-9_]+", key), key
        assert f"`{key}`" in page, f"docs/json.md does not say what {key} is"
    assert not {"memory", "size", "free", "now", "works", "silent", "enter_at"} & keys(whole)
    assert set(whole["answers"]) - {"error"} <= in_json() and "error" in whole["answers"]
    assert all(name.split()[0] in BY_NAME or name == "error" for name in whole["answers"])
    assert json.loads(json.dumps(whole)) == whole
