"""A guest keeps its board when QEMU is upgraded: with a program in front of QEMU that offers what later ones will."""

from __future__ import annotations

import json
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from dacha.hypervisor.machine_types import parsed
from dacha.hypervisor.monitor.qmp import Qmp
from tests.conftest import Lab

LAB = """\
[lab]
name = "boards"
[guest.gauge]
@BOOT@
"""
# What it prints as its list, and how the types of later versions are started here.
LATER = """\
#!/bin/sh
[ "$1 $2" = "-machine help" ] && cat {folder}/list && exit
for word in "$@"; do
    shift
    set -- "$@" "$(printf %s "$word" | sed 's/pc-q35-99\\.[0-9]/{real}/')"
done
exec {qemu} "$@"
"""


@pytest.fixture(autouse=True)
def swept(lab: Lab) -> Iterator[None]:
    yield
    shutil.rmtree(lab.env.get("OFFERED", lab.folder / "none"), ignore_errors=True)


def offers(lab: Lab, *names: str, old: str = "") -> None:
    """Let this host's QEMU offer these machine types, the newest first; `old` is deprecated."""
    text = f"Supported machines are:\nq35   Standard PC (alias of {names[0]})\nmicrovm   microvm (i386)\n"
    text += "".join(f"{n}   Standard PC (Q35 + ICH9, 2009){' (deprecated)' * (n == old)}\n" for n in names)
    # Guests' own users run it, and cannot enter the test's folder.
    folder = Path(lab.env.setdefault("OFFERED", tempfile.mkdtemp(prefix="dacha-offers-")))
    folder.chmod(0o755)
    (folder / "list").write_text(text)
    qemu = folder / "qemu-system-x86_64"
    real = shutil.which("qemu-system-x86_64")
    assert real
    qemu.unlink(missing_ok=True)
    qemu.write_text(LATER.format(folder=folder, qemu=real, real="pc-q35-7.2"))
    qemu.chmod(0o755)
    lab.env["PATH"] = f"{folder}:{lab.env['PATH'].removeprefix(f'{folder}:')}"


def board(lab: Lab) -> str:
    record = json.loads((lab.guest_folder("gauge") / "guest.json").read_text())
    return str(record["machine"].get("machine_type"))


def really(lab: Lab) -> str:
    with Qmp(Path(lab.env["DACHA_RUN"]) / "boards/gauge/watch") as qmp:
        return str(qmp.execute("qom-get", {"path": "/machine", "property": "type"}))


def stop(lab: Lab) -> None:
    lab("stop", "gauge", "--force", "--wait", "0s")


def test_a_guest_keeps_its_machine_type_until_it_is_told_otherwise(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    offers(lab, "pc-q35-7.2", "pc-q35-7.1")
    lab("start", "gauge", "--no-wait")
    assert board(lab) == "pc-q35-7.2" and really(lab) == "pc-q35-7.2-machine"
    # QEMU is upgraded. The offer is no change.
    offers(lab, "pc-q35-99.1", "pc-q35-99.0", "pc-q35-7.2")
    said = lab("diff")
    assert "everything applied" in said.out
    assert "gauge keeps the machine type pc-q35-7.2; QEMU here also offers pc-q35-99.1" in said.err
    assert "dacha guest edit gauge --machine-type newest" in said.err and "licence" in said.err
    offered = lab("diff", "--json").json["newer_machine_types"]
    assert offered == [{"guest": "gauge", "has": "pc-q35-7.2", "newest": "pc-q35-99.1"}]
    assert "everything applied" in lab("status", code=None).out
    stop(lab)
    lab("start", "gauge", "--no-wait")
    assert board(lab) == "pc-q35-7.2" and "machine-type  " in lab("guest", "show", "gauge").out
    # The remedy, word for word.
    lab("guest", "edit", "gauge", "--machine-type", "newest")
    assert "machine type pc-q35-7.2 → pc-q35-99.1" in lab("diff").out
    stop(lab)
    lab("start", "gauge", "--no-wait")
    assert board(lab) == "pc-q35-99.1"
    stop(lab)
    # It will be dropped, then it is: refused before anything is changed, also where it runs.
    lab("guest", "edit", "gauge", "--machine-type", "pc-q35-7.2")
    lab("start", "gauge", "--no-wait")
    lab("guest", "edit", "gauge", "--unset", "machine-type")
    offers(lab, "pc-q35-99.1", "pc-q35-7.2", old="pc-q35-7.2")
    found = lab("check", "--json", code=0).json["findings"]
    assert [f["code"] for f in found if "machine" in f["code"]] == ["machine-type-old"]
    offers(lab, "pc-q35-99.1")
    pid = lab.pid("gauge")
    refused = lab("restart", "gauge", "--no-wait", code=3)
    assert "does not support the machine type pc-q35-7.2" in refused.err and lab.pid("gauge") == pid
    assert "does not support" in lab("check", code=1).out
    stop(lab)
    assert "does not support" in lab("start", "gauge", "--no-wait", code=3).err
    lab("guest", "edit", "gauge", "--machine-type", "newest")
    lab("start", "gauge", "--no-wait")
    assert board(lab) == "pc-q35-99.1"


def test_one_that_an_older_version_started_by_its_alias_is_noted_as_it_runs(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("start", "gauge", "--no-wait")
    note = lab.guest_folder("gauge") / "guest.json"
    record = json.loads(note.read_text())
    real = record["machine"].pop("machine_type")
    note.write_text(json.dumps(record))
    assert "everything applied" in lab("diff").out
    lab("apply", "--no-wait")
    assert board(lab) == real and real.startswith("pc-q35-")


@pytest.mark.parametrize("written", ["q35", "pc-i440fx-7.2", "7.2", "pc-q35-", "pc-q35-7.2,usb=on"])
def test_what_is_no_machine_type_is_refused(lab: Lab, written: str) -> None:
    lab.write(f'[lab]\nname = "boards"\n[guest.gauge]\nmachine-type = "{written}"\n')
    assert "is not a machine type" in lab("check", code=2).out


def test_qemus_list_is_read_whatever_it_has() -> None:
    found = parsed(
        "q35  Standard PC (alias of pc-q35-7.2)\npc-q35-7.2  PC\npc-q35-4.0.1  PC (deprecated)\npc-i440fx-7  x\n"
    )
    assert found == (("pc-q35-7.2", "pc-q35-4.0.1"), ("pc-q35-4.0.1",), "pc-q35-7.2")
    assert parsed("").newest == "" and parsed("\x00 q35").names == ()
