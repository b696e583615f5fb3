"""Two labs of one host that are applied at the same moment, and a record that a killed command left half-made."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

from tests.conftest import PROGRAM
from tests.networks.world import HostedLab

LAB = """\
[lab]
name = "{name}"
[network.pier]
kind = "nat"
backend = "kernel"
[guest.gauge]
memory = "64 MiB"
disk = [{{ size = "1 MiB" }}]
adapter = [{{ network = "pier" }}]
door.ssh = {{ from = "lan" }}
"""


def test_two_first_applies_at_once_choose_differently(hosted: HostedLab) -> None:
    lab = hosted
    names = ("tide", "wave", "buoy")
    files = {n: lab.folder / f"{n}.toml" for n in names}
    for name, file in files.items():
        file.write_text(LAB.format(name=name))
    running = [
        subprocess.Popen(
            lab.world.inside("host", PROGRAM, "apply", "--no-wait", "--lab", file),
            env=lab.env, cwd=lab.folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        )
        for file in files.values()
    ]  # fmt: skip
    said = [process.communicate(timeout=120)[0] for process in running]
    assert [p.returncode for p in running] == [0, 0, 0], said
    subnets, ports, users = [], [], []
    for name, file in files.items():
        subnets.append(lab("network", "list", "--lab", str(file), "--json").json["networks"][0]["subnet"])
        ports.append(lab("door", "list", "--lab", str(file), "--json").json["doors"][0]["port"])
        record = json.loads((lab.folder / f"state/labs/{name}/guests/gauge/guest.json").read_text())
        users.append(record["uid"])
    assert len(set(subnets)) == len(set(ports)) == len(set(users)) == 3, (subnets, ports, users)
    # A port that is written, and another lab's door in the kernel, is refused with that door's name.
    file = lab.folder / "late.toml"
    file.write_text(LAB.format(name="late").replace('from = "lan"', f'from = "lan", port = {ports[0]}'))
    refused = lab("apply", "--no-wait", "--lab", str(file), code=3).err
    assert f"port {ports[0]} of this host is used by door gauge ssh of lab tide" in refused
    for file in files.values():
        lab("caretaker", "stop", "--lab", str(file), code=None)


def test_a_damaged_register_is_made_anew(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB.format(name="tide"))
    lab("apply", "--no-wait")
    claims = Path(lab.env["DACHA_SHARED"]) / "claims.json"
    claims.write_text("{")
    lab("apply", "--no-wait")
    assert json.loads(claims.read_text())["claims"][0]["lab"] == "tide"
    claims.write_text(json.dumps({"version": 99, "claims": []}))
    assert "written by a newer dacha" in lab("apply", "--no-wait", code=3).err
    claims.unlink()


def test_one_lab_with_two_state_folders_is_refused_before_anything_is_touched(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB.format(name="tide"))
    lab("apply", "--no-wait")
    before = lab.world.run("host", "nft", "list", "ruleset"), lab.world.run("host", "ip", "-brief", "link")
    said = lab("apply", "--no-wait", code=3, env={"DACHA_STATE": str(lab.folder / "other")}).err
    assert f"a lab tide already exists on this host, in {lab.folder}/state/labs/tide" in said
    assert f"use that folder: DACHA_STATE={lab.folder}/state" in said
    assert (lab.world.run("host", "nft", "list", "ruleset"), lab.world.run("host", "ip", "-brief", "link")) == before
    # Once it has left the kernel, another may have it.
    lab("stop", "--all", "--force", "--wait", "0s")
    lab.write('[lab]\nname = "tide"\n')
    lab("apply")
    lab.write(LAB.format(name="tide"))
    lab("apply", "--no-wait", env={"DACHA_STATE": str(lab.folder / "other")})
    lab("caretaker", "stop", code=None, env={"DACHA_STATE": str(lab.folder / "other")})
    lab("stop", "--all", "--force", "--wait", "0s", env={"DACHA_STATE": str(lab.folder / "other")})
