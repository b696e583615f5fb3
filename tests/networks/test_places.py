"""A laptop that moves: doors from the LAN are open at the places that the lab file names, and nowhere else."""

import random
import subprocess
import time

import pytest

from tests.networks.world import PYTHON, HostedLab, World, until

# A guest with a page for the LAN.
PIER = """\
[network.pier]
kind = "nat"
backend = "@BACKEND@"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.page = { service = "http", from = "lan", port = 8080, to = 80 }
"""
LAB = """\
[lab]
name = "real"
[place.home]
router = "02:00:00:00:77:01"
[place.office]
router = "02:00:00:00:77:02"
subnet = "192.0.2.0/24"
"""
LAB += f'{PIER}door.ssh = {{ from = "lan", port = 2220, places = ["home"] }}\n'
ROUTERS = {"home": "02:00:00:00:77:01", "office": "02:00:00:00:77:02", "cafe": "02:00:00:00:77:03"}
# A door is closed within this time after a move (seconds).
CLOSED_S = 2.0


def move(world: World, place: str) -> None:
    """Another router, at the same address: the host's link goes down, as that of a laptop that is carried away."""
    world.run("host", "ip", "link", "set", "eth0", "down")
    world.run("router", "ip", "link", "set", "eth0", "address", ROUTERS[place])
    world.run("router", "ip", "neighbour", "flush", "all")
    world.run("lan", "ip", "neighbour", "flush", "all")
    world.run("host", "ip", "link", "set", "eth0", "up")
    world.run("host", "ip", "route", "replace", "default", "via", "192.0.2.1")


def enters(world: World, port: int) -> bool:
    """Whether a machine on the LAN gets a connection."""
    code = f"import socket; socket.create_connection(('192.0.2.10', {port}), 1.0)"
    return subprocess.run(world.inside("lan", *PYTHON, "-c", code), capture_output=True, check=False).returncode == 0


def held(world: World, port: int) -> subprocess.Popen[str]:
    """A connection from the LAN that says when it ends."""
    code = (
        f"import socket; s=socket.create_connection(('192.0.2.10', {port}), 5); print('up', flush=True)\n"
        "s.settimeout(60)\ntry:\n while s.recv(100): pass\nexcept OSError as e: print(e)\nprint('ended')"
    )
    process = subprocess.Popen(world.inside("lan", *PYTHON, "-c", code), stdout=subprocess.PIPE, text=True)
    assert process.stdout and process.stdout.readline() == "up\n"
    return process


def moves(lab: HostedLab, count: int) -> None:
    """Move at random; no door is open where it should not be, later than two seconds after the move."""
    world, drawn, late = lab.world, random.Random(34), []
    for n in range(count):
        place = drawn.choice(list(ROUTERS))
        move(world, place)
        began = time.monotonic()
        wanted = {2220: place == "home", 8080: place != "cafe"}
        while time.monotonic() - began < CLOSED_S:
            time.sleep(0.05)
        late += [(n, place, port) for port, may in wanted.items() if not may and enters(world, port)]
        for port in (port for port, may in wanted.items() if may):
            until(lambda port=port: enters(world, port), 60)  # type: ignore[misc]
    assert late == []


@pytest.mark.parametrize("backend", [pytest.param("user", marks=pytest.mark.whole), "kernel"])
def test_doors_follow_the_place(hosted: HostedLab, backend: str) -> None:
    lab, world = hosted, hosted.world
    move(world, "home")
    lab.write(LAB.replace("@BACKEND@", backend))
    lab("apply")
    assert until(lambda: enters(world, 2220)) and until(lambda: enters(world, 8080))
    assert "place home" in lab("host", code=None).out and "closed" not in lab("status").out
    held_open = held(world, 2220)

    move(world, "office")
    until(lambda: not enters(world, 2220), 10)
    until(lambda: enters(world, 8080), 10)
    said = lab("status", "--json").json
    assert said["at"] == {"place": "office", "router": ROUTERS["office"], "closed": [{"guest": "gauge", "door": "ssh"}]}
    assert "closed to the LAN here, the place is office: gauge ssh" in lab("reach").out
    assert "closed at this place" in lab("reach", "--why").out
    assert "ssh from this host, closed to the LAN at this place" in lab("trace", "gauge", "ssh", "--all").out
    assert "name this place in the lab file" in lab("trace", "gauge", "ssh", "--from", "lan", code=2).err
    # The connection from before the move has ended; this host itself enters as ever.
    assert "ended" in held_open.communicate(timeout=60)[0] or backend == "kernel"
    held_open.kill()
    assert world.greets("host", "127.0.0.1", 2220)

    move(world, "cafe")
    until(lambda: not enters(world, 8080), 10)
    assert "the place is unknown" in lab("status").out and ROUTERS["cafe"] in lab("status").out
    assert "nothing to do" in lab("apply").out and not enters(world, 8080)
    # A guest that is started there is closed too.
    lab("restart", "gauge")
    assert not enters(world, 2220) and not enters(world, 8080)
    assert world.greets("host", "127.0.0.1", 2220)
    moves(lab, 2)
    log = lab("caretaker", "status").out.partition("Its log: ")[2].split("\n")[0]
    assert "this host is at an unknown place" in open(log).read()


@pytest.mark.whole
@pytest.mark.parametrize("backend", ["user", "kernel"])
def test_no_door_stays_open_in_fifty_moves(hosted: HostedLab, backend: str) -> None:
    move(hosted.world, "home")
    hosted.write(LAB.replace("@BACKEND@", backend))
    hosted("apply")
    moves(hosted, 50)


def test_what_is_wrong_with_places_is_said(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB.replace("@BACKEND@", "user").replace('["home"]', '["hom"]'))
    assert (
        "no table [place.hom] exists" in lab("check", code=2).out and "did you mean home?" in lab("check", code=2).out
    )
    lab.write(LAB.replace("@BACKEND@", "user").replace('from = "lan", port = 2220', 'from = "host", port = 2220'))
    assert "the same at every place" in lab("check", code=2).out
    lab.write(LAB.replace("@BACKEND@", "user").replace("02:00:00:00:77:01", "home"))
    assert "is not a hardware address" in lab("check", code=2).out
