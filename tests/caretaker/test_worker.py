"""The packet worker: without any power, and replaced within a second when it is lost, with nothing lost."""

from __future__ import annotations

import asyncio
import ctypes
import json
import os
import random
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from dacha.caretaker.packets.messages import Keep, Says, Up, Used, Want, decode, encode, may_keep
from dacha.caretaker.workers import Workers
from dacha.core.errors import PeerError
from dacha.host.accounts import Account
from dacha.wire.dhcp.dhcp4_lease import Lease
from tests.caretaker.test_clients import Client
from tests.networks.world import HostedLab, until
from tests.processes import there
from tests.wire.test_dhcp4 import SCOPE

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.80.0.0/16"
dynamic = "10.80.16.1-10.80.99.250"
[guest.gauge]
memory = "64 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier", address = "10.80.0.20" }]
door.ssh = { from = "lan", port = 2220 }
"""
# More are killed in bench/hostile.py.
KILLS = int(os.environ.get("DACHA_KILLS", "6"))


def caretaker(lab: HostedLab) -> int:
    return int(lab("caretaker", "status", "--json").json["pid"])


def children(parent: int) -> list[int]:
    try:
        return [int(p) for p in Path(f"/proc/{parent}/task/{parent}/children").read_text().split()]
    except OSError:
        return []


def source(parent: int) -> int | None:
    """The process that workers are copied from."""
    return next((p for p in children(parent) if there(p)), None)


def named(pid: int) -> str:
    try:
        return Path(f"/proc/{pid}/comm").read_text().strip()
    except OSError:
        return ""


def workers(parent: int, name: str = "dacha-packets") -> list[int]:
    """The worker at work; by the other name the frame relay."""
    return [p for p in children(source(parent) or 0) if there(p) and named(p) == name]


@pytest.fixture
def storming(hosted: HostedLab) -> HostedLab:
    hosted.write(LAB)
    hosted("apply", "--no-wait")
    hosted("stop", "--all", "--force", "--wait", "0s")
    client = Client(hosted, "02:00:00:00:00:99")
    client.run("ip", "address", "add", "10.80.0.9/16", "dev", "eth0")
    return hosted


def test_the_worker_has_no_power(storming: HostedLab) -> None:
    parent = caretaker(storming)
    (worker,), (relay,) = workers(parent), workers(parent, "dacha-relay")
    for pid in (worker, relay):
        until(lambda pid=pid: "Seccomp:\t2" in Path(f"/proc/{pid}/status").read_text())
    for pid in (worker, relay, source(parent)):
        status = dict(line.split(":", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines())
        for power in ("CapInh", "CapPrm", "CapEff", "CapBnd", "CapAmb"):
            assert int(status[power], 16) == 0, status
        assert status["Uid"].split()[0] not in ("0", "65534") and status["Groups"].strip() == ""
        assert status["NoNewPrivs"].strip() == "1"
        print({key: status[key].split() for key in ("Uid", "CapEff", "CapBnd", "NoNewPrivs", "Seccomp", "VmRSS")})


def sockets(pid: int) -> dict[str, int]:
    """The inodes of a process's sockets, each with its descriptor."""
    found = {}
    for entry in Path(f"/proc/{pid}/fd").iterdir():
        kind, _, inode = str(entry.readlink()).partition(":")
        if kind == "socket":
            found[inode.strip("[]")] = int(entry.name)
    return found


def test_no_socket_of_the_worker_sees_or_sends_frames(storming: HostedLab) -> None:
    """What a worker did that was taken over: it took the filter off the socket that heard all links, read this host's
    loopback, and sent a forged frame to the LAN."""
    parent = caretaker(storming)
    (worker,), (relay,) = workers(parent), workers(parent, "dacha-relay")
    rows = [line.split() for line in storming.world.run("host", "cat", "/proc/net/packet").splitlines()[1:]]
    packet = {row[8]: int(row[4]) for row in rows}  # by inode: the number of the link that it is bound to
    assert not packet.keys() & sockets(worker).keys()
    mine = packet.keys() & sockets(relay).keys()
    links = json.loads(storming.world.run("host", "ip", "-json", "link"))
    own = {link["ifindex"] for link in links if link.get("ifalias", "").startswith("dacha:real:")}
    assert len(mine) >= 3 and {packet[inode] for inode in mine} == own, "one for each of the lab's links, no other"
    # No filter comes off, whoever has the socket.
    libc = ctypes.CDLL(None, use_errno=True)
    process = os.pidfd_open(relay)
    for inode in mine:
        fd = libc.syscall(438, process, sockets(relay)[inode], 0)
        assert fd >= 0, os.strerror(ctypes.get_errno())
        with socket.socket(fileno=fd) as s, pytest.raises(PermissionError):
            s.setsockopt(socket.SOL_SOCKET, 27, 0)  # SO_DETACH_FILTER
    os.close(process)
    # And the process that has them sends where they are bound to, and nowhere else.
    code = (
        "import socket\nfrom dacha.caretaker.sockets import sends_by\nfrom dacha.host import confine\n"
        "s = sends_by('lo')\nconfine.shut_in(calls=confine.RELAY_CALLS, addressless=True)\n"
        "s.send(bytes(60)); print('sent')\n"
        "for to in (('eth0', 0x806), ('eth0', 0x806, 0, 1, b'\\xff' * 6)):\n"
        "    try: s.sendto(bytes(60), to); print('through')\n    except PermissionError: print('refused')\n"
        "for do in (lambda: s.sendmsg([bytes(60)], [], 0, ('eth0', 0x806)), socket.socket):\n"
        "    try: do(); print('through')\n    except PermissionError: print('refused')\n"
    )
    assert storming.world.run("host", sys.executable, "-c", code).split() == ["sent", *["refused"] * 4]


def test_killed_again_and_again_it_is_back_at_once_and_nothing_is_lost(storming: HostedLab) -> None:
    world, seconds = storming.world, KILLS * 0.9 + 3
    parent, dice = caretaker(storming), random.Random(7)
    command = world.inside("other", sys.executable, Path(__file__).with_name("storm.py"), seconds, "10.80.0.9",
                           "10.80.0.1", "gauge.real.internal")  # fmt: skip
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=os.environ | {"PYTHONPATH": "."}) as storm:
        time.sleep(1.5)
        for _ in range(KILLS):
            os.kill(until(lambda: workers(parent))[0], signal.SIGKILL)
            time.sleep(dice.uniform(0.5, 1.1))
        said = json.loads(storm.communicate(timeout=60)[0])
    kept = {x["address"]: x for x in storming("caretaker", "status", "--json").json["leases"]}
    print(f"{len(said['given'])} leases given, {said['answers']} names answered, "
          f"longest without an answer {said['longest_gap_s']:.2f} s, {KILLS} workers killed")  # fmt: skip
    assert len(said["given"]) > 20 and said["answers"] > 200
    twice = {address: who for address, who in said["given"].items() if len(set(who)) > 1}
    assert not twice
    assert {a: who[0] for a, who in said["given"].items()} == {a: kept[a]["hardware_address"] for a in said["given"]}
    # How soon it is back is for bench/hostile.py to judge: here it may share the machine.
    assert said["longest_gap_s"] < 30.0
    assert caretaker(storming) == parent


def test_what_workers_are_copied_from_is_replaced_too(storming: HostedLab) -> None:
    """With it ends the worker at work, and others are there; and both end with the root part, however that ends."""
    parent = caretaker(storming)
    maker, before = source(parent), workers(parent)
    os.kill(maker, signal.SIGKILL)
    until(lambda: source(parent) not in (None, maker) and workers(parent))
    until(lambda: not any(map(there, [maker, *before])))
    ask = ("dig", "+short", "@10.80.0.1", "gauge.real.internal")
    until(lambda: storming.world.run("host", *ask, check=False).strip() == "10.80.0.20")
    # So is the relay: without it the worker hears nothing, and goes with it.
    (relay,), before = workers(parent, "dacha-relay"), workers(parent)
    os.kill(relay, signal.SIGKILL)
    until(lambda: workers(parent, "dacha-relay") not in ([], [relay]) and workers(parent) not in ([], before))
    until(lambda: storming.world.run("host", *ask, check=False).strip() == "10.80.0.20")
    both = [source(parent), *workers(parent), *workers(parent, "dacha-relay")]
    os.kill(parent, signal.SIGKILL)
    until(lambda: not any(map(there, both)))


def test_a_worker_that_cannot_be_made_is_told_with_its_reason() -> None:
    async def order() -> str:
        workers = Workers(Account(1 << 33, 1 << 33), print, print, print)
        with pytest.raises(OSError) as refused:
            workers.order([])
        workers.close()
        return str(refused.value)

    before = set(os.listdir("/proc/self/fd"))
    assert asyncio.run(order()).startswith("cannot start one: OverflowError")
    assert set(os.listdir("/proc/self/fd")) == before


def test_garbage_on_the_channel_closes_it() -> None:
    lease = Lease(SCOPE.server, b"c", b"\2" * 6, 5.0, "bound", "gauge")
    others = (Used("tap", SCOPE.server, "wire"), Says("pier", "x"), Want(2, "pier", "10.77.4.20", "a/b"), Up())
    for message in (Keep(1, "pier", lease), *others):
        assert decode(encode(message)) == message
    dice = random.Random(1)
    whole = encode(Keep(1, "pier", lease))
    cases = [dice.randbytes(n) for n in range(200)] + [whole[:n] for n in range(len(whole))]
    cases += [b"[]", b'["up", 1]', b'["keep"]', b'["used", "tap", "300.1.1.1", "wire"]', b"[" * 3000, b"x" * 5000]
    cases += [b'["used", "tap", "fd77:4::20%x; flush ruleset", "wire"]']
    cases += [whole.replace(b"bound", b"owned"), whole.replace(b"5.0", b"1e999"), whole.replace(b'"gauge"', b'"a b"')]
    cases += [
        encode(Used("tap", SCOPE.server, "told")),
        b'["says", "pier", 7]',
        b'["run", "rm"]',
        b'["want", 1, "pier", "10.77.4.20", "a\\u0000b"]',
        b'["want", 1, "pier", "a"]',
    ]
    for data in cases:
        with pytest.raises(PeerError, match="unexpected message from the packet worker"):
            decode(data)


def test_a_lease_that_nobody_can_have_is_not_kept() -> None:
    inside = next(iter(SCOPE.reservations.values()))
    good = Lease(inside.address, b"c", inside.hardware, 100.0, "bound", "")
    assert may_keep(good, SCOPE, 0.0)
    assert not may_keep(good._replace(address=SCOPE.server), SCOPE, 0.0)
    assert not may_keep(good._replace(hardware=b"\6" * 6), SCOPE, 0.0)
    assert not may_keep(good._replace(until=1e9), SCOPE, 0.0)


def test_a_worker_that_says_what_it_never_does_is_replaced(storming: HostedLab) -> None:
    """Its own end of the channel, taken by a debugger's way, stands for a worker that was taken over."""
    parent = caretaker(storming)
    worker = workers(parent)[0]
    inside = f"""
import ctypes, os, socket
for end in os.listdir("/proc/{worker}/fd"):
    taken = ctypes.CDLL(None).syscall(438, os.pidfd_open({worker}), int(end), 0)  # pidfd_getfd(2)
    if os.readlink(f"/proc/self/fd/{{taken}}").startswith("socket:"):
        channel = socket.socket(fileno=taken)
        if (channel.family, channel.type) == (socket.AF_UNIX, socket.SOCK_SEQPACKET):
            channel.send(b'["run", "rm -rf /"]')
            break
"""
    storming.world.run("host", sys.executable, "-c", inside)
    until(lambda: workers(parent)[:1] != [worker])
    log = (storming.folder / "state/labs/real/caretaker.log").read_text()
    assert "the packet worker is replaced: unexpected message from the packet worker" in log
