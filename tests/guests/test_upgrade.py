"""A state folder of the version before (2026-11-26, without notes beside disks and without users of guests' own): its
lab goes on with its disks, keys, leases and ports."""

from __future__ import annotations

import json
import re
import subprocess
import tarfile
from ipaddress import IPv4Address
from pathlib import Path

from dacha.caretaker.journal import read
from tests.conftest import Lab


def test_a_lab_of_the_version_before_goes_on(lab: Lab) -> None:
    state = lab.folder / "state"
    state.mkdir(mode=0o700)
    with tarfile.open(Path(__file__).with_name("state_of_0_1.tar.xz")) as old:
        old.extractall(state)
    (state / "lab.toml").rename(lab.file)
    home = state / "labs/pier"
    owner = json.loads((home / "lab.json").read_text())
    (home / "lab.json").write_text(json.dumps(owner | {"lab_file": str(lab.file)}))
    folder = home / "guests/gauge"
    kept = {name: (folder / name).read_bytes() for name in ("host_key", "host_key.pub")}
    trusted = re.findall(r"AAAA\S+", (home / "known_hosts").read_text())
    lab("status", code=None)
    assert lab("door", "list", "--json").json["doors"][0]["port"] == 2220
    lab("start", "gauge", "--no-wait")
    assert lab("diff").out == "pier: everything applied\n"
    record = json.loads((folder / "guest.json").read_text())
    assert record["uid"] and json.loads((folder / "disk-0.json").read_text())["below"] == []
    assert {name: (folder / name).read_bytes() for name in kept} == kept
    assert trusted == re.findall(r"AAAA\S+", (home / "known_hosts").read_text())
    # Its TPM's memory, root's until then, is its own user's now.
    assert (folder / "tpm/tpm2-00.permall").stat().st_uid == record["uid"]
    assert read(home / "leases-inside")[IPv4Address("10.77.4.100")].host_name == "stranger"
    lab("stop", "gauge", "--force", "--wait", "0s")
    command = ["qemu-io", "-f", "qcow2", "-c", "read -P 0x74 4096 512", folder / "disk-0.qcow2"]
    said = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    assert "read 512/512 bytes" in said and "failed" not in said
