"""Another address of a guest that runs on a kernel network: its door from the LAN, its name and its tap follow it."""

from __future__ import annotations

import re
from pathlib import Path

from tests.attacks.field import on_console
from tests.guests.test_live_setup import ROOT
from tests.networks.world import HostedLab, World, until

LAB = """\
[lab]
name = "moving"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
"""


def test_a_door_from_the_lan_follows_the_address_of_a_running_guest(world: World, hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB)
    lab("apply")
    run, began = Path(lab.env["DACHA_RUN"]) / "moving/gauge", lab.pid("gauge")
    on_console(run, ROOT, 120)
    lab.file.write_text(re.sub(r'address = "[0-9.]+"', 'address = "10.77.4.30"', lab.file.read_text()))
    assert "while it runs" in lab("diff").out and "1 change" in lab("status", code=None).out
    done = lab("apply")
    assert "address 10.77.4.20 → 10.77.4.30" in done.out and "next start" not in done.out
    assert world.greets("lan", "192.0.2.10", 2220) and lab.pid("gauge") == began
    until(lambda: on_console(run, "ip -4 -o address show dev eth0 | wc -l", 120).strip() == "1")
    assert world.greets("lan", "192.0.2.10", 2220)
    # Its tap lets it send from the new address, and its name is the new one.
    assert "0% packet loss" in on_console(run, "ping -c 2 10.77.4.1", 120)
    until(lambda: "10.77.4.30" in on_console(run, "nslookup gauge.moving.internal 10.77.4.1", 120), 30)
    assert lab("trace", "gauge").code == 0 and "nothing to do" in lab("apply").out
    # Its next start has it, too.
    lab("restart", "gauge", "--force")
    assert world.greets("lan", "192.0.2.10", 2220)
    assert "10.77.4.30/24" in on_console(run, "ip -4 -o address show dev eth0", 120)
