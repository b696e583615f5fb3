"""The same journey on every odd host: check, apply, reach against packets, trace, and taken down with nothing left."""

from __future__ import annotations

import json
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from dacha.core.lab.names import link_name
from tests.hosts.oddities import ODDITIES, Oddity
from tests.networks.drawn_labs import Door, Drawn, Machines, settle, wrong_cells, wrong_doors
from tests.networks.world import HostedLab, World, hold, until

LAB = """\
[lab]
name = "real"
[network.n0]
kind = "nat"
backend = "kernel"
subnet = "10.60.1.0/24"
[network.n1]
kind = "host-only"
backend = "kernel"
subnet = "10.61.1.0/24"
[guest.g0]
memory = "64 MiB"
adapter = [{ network = "n0", address = "10.60.1.20" }]
door.d0 = { service = "http", from = "lan", port = 3000, to = 80 }
[guest.g1]
memory = "64 MiB"
adapter = [{ network = "n0", address = "10.60.1.21" }]
door.d0 = { service = "http", from = "lan", port = 3001, to = 80, allow = ["192.0.2.20", "192.0.2.16/29"] }
[guest.g2]
memory = "64 MiB"
adapter = [{ network = "n1", address = "10.61.1.22" }]
door.d0 = { service = "http", from = "host", port = 3002, to = 80 }
"""
ROWS = [
    pytest.param(oddity, id=name, marks=() if oddity.usual else pytest.mark.whole) for name, oddity in ODDITIES.items()
]


def drawn() -> Drawn:
    doors = [
        Door("g0", "lan", 3000, "", []), Door("g1", "lan", 3001, "", ["192.0.2.20", "192.0.2.16/29"]),
        Door("g2", "host", 3002, "", []),
    ]  # fmt: skip
    return Drawn(LAB, {"g0": [], "g1": [], "g2": []}, doors, {"n0": "nat", "n1": "host-only"})


def everything(world: World) -> list[str]:
    """All that the host has, line by line: links, addresses, routes, policy rules, settings, every firewall rule."""
    found = []
    for what in ("link", "address", "route show table all", "-6 route show table all", "rule", "-6 rule"):
        rows = json.loads(world.run("host", "ip", "-json", *what.split()) or "[]")
        for row in rows:
            for key in ("addr_info", "stats", "expires", "txqlen", "qdisc"):
                if key != "addr_info":
                    row.pop(key, None)
        found += sorted(json.dumps(row, sort_keys=True) for row in rows)
    found += world.run("host", "nft", "--stateless", "list", "ruleset").splitlines()
    settings = world.run("host", "sysctl", "-a", check=False).splitlines()
    return found + [s for s in settings if s.startswith(("net.ipv4.conf", "net.ipv4.ip_f", "net.ipv6.conf"))]


@pytest.fixture
def odd(request: pytest.FixtureRequest, hosted: HostedLab) -> Iterator[tuple[HostedLab, Oddity]]:
    oddity: Oddity = request.param
    for line in oddity.lines:
        hosted.world.run("host", "sh", "-c", line)
    if oddity.resolvers is not None:
        (Path("/etc/netns") / hosted.world.name("host") / "resolv.conf").write_text(oddity.resolvers)
    yield hosted, oddity


@pytest.mark.parametrize("odd", ROWS, indirect=True)
def test_an_odd_host_has_its_lab_and_is_as_it_was_afterwards(odd: tuple[HostedLab, Oddity]) -> None:
    _journey(*odd)


def test_where_rules_cannot_be_loaded_nothing_is_switched_on(hosted: HostedLab) -> None:
    """A program that loads none stands for a kernel that refuses them: the host is as closed as it was."""
    lab, world = hosted, hosted.world
    folder = lab.folder / "bin"
    folder.mkdir()
    real = shutil.which("nft")
    (folder / "nft").write_text(
        f'#!/bin/sh\ncase "$*" in *-f*) echo "Error: refused" >&2; exit 1;; esac\nexec {real} "$@"\n'
    )
    (folder / "nft").chmod(0o755)
    lab.write(LAB)
    path = {"PATH": f"{folder}:{lab.env['PATH']}"}
    said = lab("apply", "--no-wait", code=3, env=path).err
    assert "refused" in said
    assert world.run("host", "sysctl", "-n", "net.ipv4.ip_forward", "net.ipv6.conf.all.forwarding").split() == [
        "0",
        "0",
    ]
    links = [link_name("real", "network", n) for n in ("n0", "n1")]
    assert [world.run("host", "sysctl", "-n", f"net.ipv4.conf.{n}.route_localnet").strip() for n in links] == ["0", "0"]
    # What was switched on under rules that are gone goes back where they cannot be loaded again.
    lab("apply", "--no-wait")
    assert world.run("host", "sysctl", "-n", "net.ipv4.ip_forward").strip() == "1"
    hold(lab)
    world.run("host", "nft", "flush", "ruleset")
    lab("apply", "--no-wait", code=3, env=path)
    assert world.run("host", "sysctl", "-n", "net.ipv4.ip_forward").strip() == "0"
    lab("apply", "--no-wait")
    assert world.run("host", "sysctl", "-n", "net.ipv4.ip_forward").strip() == "1"


@pytest.mark.whole
def test_a_state_folder_on_another_file_system(hosted: HostedLab) -> None:
    """State, run folder and temporary files are on three; nothing is renamed from one to the other."""
    places = [hosted.folder / "state", Path(hosted.env["DACHA_RUN"])]
    for place in places:
        place.mkdir(exist_ok=True)
        subprocess.run(["mount", "-t", "tmpfs", "-o", "mode=700", "tmpfs", place], check=True)
    try:
        _journey(hosted, Oddity())
        hosted("caretaker", "stop", code=None)
    finally:
        for place in places:
            subprocess.run(["umount", "-l", place], check=True)


def _journey(lab: HostedLab, oddity: Oddity) -> None:
    world = lab.world
    until(lambda: "tentative" not in world.run("host", "ip", "address"))
    before = everything(world)
    lab.write(LAB)
    assert lab("check", "--json", code=None).json["errors"] == 0, lab("check", code=None).out
    made = drawn()
    settle(made, lab("address", "list", "--json").json["addresses"])
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    machines = Machines(world, made, {n: link_name("real", "network", n) for n in made.networks})
    try:
        lab("apply", "--no-wait")
        table = lab("reach", "--json").json
        wrong, count = wrong_doors(made, machines, oddity.at)
        cells, more = wrong_cells(made, machines, table)
        assert not wrong + cells and count + more > 15, "\n".join(wrong + cells)
        hops = lab("trace", "g0", "d0", "--json", code=None).json["hops"]
        assert len(hops) >= 3 and all(h["verdict"] for h in hops)
        assert lab("diff", code=None).out
    finally:
        machines.close()
    lab.file.write_text('[lab]\nname = "real"\n')
    lab("apply")
    after = everything(world)
    assert [x for x in after if x not in before] == [] and [x for x in before if x not in after] == []
