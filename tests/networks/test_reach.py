"""What `reach` computes is what real packets meet: every cell of a lab with every kind of network, yes and no."""

from __future__ import annotations

import subprocess
from typing import Any

import pytest

from dacha.core.lab.names import link_name
from tests.networks.test_bridge import make_bridge
from tests.networks.test_kernel_nat import reads_in
from tests.networks.world import HostedLab, begin_router, end_router

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[network.quiet]
kind = "nat"
backend = "kernel"
isolated = true
subnet = "10.77.6.0/24"
[network.vault]
kind = "host-only"
backend = "kernel"
subnet = "10.77.9.0/24"
[network.plain]
kind = "nat"
subnet = "10.77.5.0/24"
[network.quay]
kind = "bridge"
interface = "br0"
subnet = "192.0.2.0/24"
gateway = "192.0.2.1"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
door.http = { service = "ssh", to = 22, from = "host", port = 2290 }
door.some = { service = "ssh", to = 22, from = "lan", port = 2291, allow = ["192.0.2.30"] }
[guest.locker]
@BOOT@
adapter = [{ network = "vault", address = "10.77.9.20" }]
door.ssh = { from = "host", port = 2221 }
[guest.charts]
@BOOT@
adapter = [{ network = "plain", address = "10.77.5.20" }]
door.ssh = { from = "outside", port = 2222 }
[guest.buoy]
@BOOT@
adapter = [{ network = "quay", address = "192.0.2.50" }]
"""
# A machine on each of the kernel's networks that is no guest.
NEIGHBOURS = {"pier": "10.77.4.50/24", "quiet": "10.77.6.50/24", "vault": "10.77.9.50/24"}


def attach(lab: HostedLab, network: str, address: str) -> str:
    """A machine on one of the lab's bridges; it goes with the world."""
    world = lab.world
    name = f"{world.prefix}-{network}"
    subprocess.run(["ip", "netns", "add", name], check=True)
    subprocess.run(["ip", "link", "add", "eth0", "netns", name, "type", "veth",
                    "peer", "name", f"on-{network}", "netns", world.name("host")], check=True)  # fmt: skip
    world.run("host", "ip", "link", "set", f"on-{network}", "master", link_name("real", "network", network), "up")
    gateway = address.rpartition(".")[0] + ".1"
    for command in (f"address add {address} dev eth0", "link set eth0 up", "link set lo up",
                    f"route add default via {gateway}"):  # fmt: skip
        world.run(network, "ip", *command.split())
    return network


def tried(lab: HostedLab, place: str, address: str, port: int, patience_s: float = 1.0) -> bool:
    """True when an SSH server answers somebody who types this at that place, within this time."""
    if place == "plain":
        return reads_in(lab, "charts", address, port, max(3.0, patience_s)).startswith("SSH-2.0")
    machine = {"quay": "lan"}.get(place, place)
    return lab.world.reads(machine, address, port, patience_s).startswith("SSH-2.0")


@pytest.mark.whole
def test_every_cell_is_as_computed(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    make_bridge(world)
    lab.write(LAB)
    router = begin_router(world)
    try:
        lab("apply")
        for network, address in NEIGHBOURS.items():
            attach(lab, network, address)
        table: dict[str, Any] = lab("reach", "--json").json
        assert table["places"] == ["host", "pier", "quiet", "vault", "plain", "quay", "lan", "outside"]
        said = {(r["guest"], p): c for r in table["services"] for p, c in r["from"].items()}
        # Whatever might lead to a guest: its own address, and every door's port at every address of this host.
        ports = {"gauge": (2220, 2290, 2291), "locker": (2221,), "charts": (2222,), "buoy": ()}
        own = {"gauge": "10.77.4.20", "locker": "10.77.9.20", "charts": "10.77.5.20", "buoy": "192.0.2.50"}
        here = {
            "host": "127.0.0.1",
            "pier": "10.77.4.1",
            "quiet": "10.77.6.1",
            "vault": "10.77.9.1",
            "plain": "10.77.5.1",
        }
        wrong, yes, no = [], 0, 0
        for (guest, place), cell in said.items():
            for way in cell["ways"]:
                limited = way["through"] == "door some" and place in ("lan", "quay")
                if limited:
                    # Shut for the machine that is asked first, open for the one that it names.
                    assert way["only"] == ["192.0.2.30/32"] and not cell["only"], "another way is for everybody"
                    assert world.greets("other", way["address"], way["port"])
                yes += 1
                if tried(lab, place, way["address"], way["port"], 1.0 if limited else 20.0) is limited:
                    wrong.append((guest, place, way))
            if not cell["reachable"]:
                no += 1
                addresses = {here.get(place, "192.0.2.10"), "192.0.2.10"}
                if place == "outside":
                    addresses = {"198.51.100.1"}
                attempts = [(own[guest], 22), *((a, p) for a in addresses for p in ports[guest])]
                wrong += [(guest, place, cell["why"], *x) for x in attempts if tried(lab, place, *x)]
        print(f"{yes} ways and {no} closed cells tried")
        assert not wrong, wrong
        assert yes >= 18 and no >= 9
    finally:
        end_router(router)
        for network in NEIGHBOURS:
            subprocess.run(["ip", "netns", "delete", f"{world.prefix}-{network}"], check=False)
