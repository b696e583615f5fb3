"""What a host's start brings up, and the unit that has its service manager do so."""

from __future__ import annotations

import os
import subprocess
import time

from dacha.host.accounts import with_few_powers
from tests.conftest import PROGRAM, Lab
from tests.networks.world import HostedLab
from tests.processes import kill

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
start = { at-boot = true, order = 2 }
door.ssh = { from = "lan", port = 2220 }
share.tides = { folder = "tides", at = "/srv/tides" }
[guest.buoy]
memory = "32 MiB"
disk = [{ size = "1 MiB" }]
start = { at-boot = true, order = 1, delay = "300 ms" }
[guest.locker]
memory = "32 MiB"
disk = [{ size = "1 MiB" }]
"""


def test_guests_start_with_their_host(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    lab.write(LAB)
    (lab.folder / "tides").mkdir()
    os.chown(lab.folder / "tides", 4321, 4321)
    lab("apply", "--no-wait")
    lab("stop", "gauge", "--force", "--wait", "0s")
    # The host loses its power: no process and no link is left, and it has another boot's number.
    kill(lab("caretaker", "status", "--json").json["pid"])
    lab("stop", "--all", "--force", "--wait", "0s")
    world.run("host", "nft", "flush", "ruleset")
    for line in world.run("host", "ip", "-brief", "link").splitlines():
        if "eth0" not in line and "lo " not in line:
            world.run("host", "ip", "link", "delete", line.split()[0].partition("@")[0])
    (lab.folder / "state/labs/real/boot").write_text("another")
    # While nobody looked, the file was edited; what starts is the lab as it was applied.
    lab.file.write_text(lab.file.read_text().replace("port = 2220", "port = 2299"))

    # With the few powers that its unit leaves it, what it starts has its shared folders all the same.
    caretaker = subprocess.Popen(
        world.inside("host", *with_few_powers([PROGRAM, "caretaker", "run", "--lab", str(lab.file)])),
        env=lab.env, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        deadline = time.monotonic() + 120
        while not world.reads("lan", "192.0.2.10", 2220, 5.0).startswith("SSH-2.0"):
            assert time.monotonic() < deadline, lab("status").out
        states = {g["name"]: g["state"] for g in lab("status", "--json", code=None).json["guests"]}
        assert states == {"gauge": "on", "buoy": "on", "locker": "off"}
        lab.write(LAB)
        (lab.folder / "tides/made").write_text("here")
        assert lab("connect", "gauge", "--", "cat /srv/tides/made").out == "here"
    finally:
        caretaker.terminate()
        said = caretaker.communicate(timeout=60)[1]
    assert said.index("guest buoy") < said.index("guest gauge"), said
    assert lab("status", "--json", code=None).json["guests"][0]["state"] == "on", "it outlives the caretaker"


def test_the_unit_is_printed_written_and_removed(lab: Lab) -> None:
    (lab.folder / "tides").mkdir()
    lab.write(LAB.replace("@BOOT@", 'memory = "32 MiB"').replace('backend = "kernel"', ""))
    assert "dacha caretaker install" in lab("check", code=None).out
    text = lab("caretaker", "install", "--print").out
    assert "caretaker run --lab" in text and "Restart=always" in text and "KillMode=process" in text
    folder = lab.folder / "units"
    said = lab("caretaker", "install", "--to", str(folder)).out
    assert "the caretaker starts buoy, gauge" in said
    assert (folder / "dacha-real.service").read_text() == text
    assert "Removed" in lab("caretaker", "install", "--remove", "--to", str(folder)).out
    assert not list(folder.iterdir())
    assert "is not installed" in lab("caretaker", "install", "--remove", "--to", str(folder)).out
