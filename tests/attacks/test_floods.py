"""One guest floods everything that listens: its neighbour goes on, memory and disk stay bounded, nothing needs a start.

`DACHA_FLOOD_S` says how long each flood lasts; bench/hostile.py takes a minute.
"""

from __future__ import annotations

import os
import random
import struct
import threading
import time
from pathlib import Path

import pytest

from tests.attacks.field import MOST_MIB, Field, memory_of
from tests.attacks.frames import arp_answer, ethernet, neighbour_solicitation, udp
from tests.attacks.report import Report

FLOOD_S = float(os.environ.get("DACHA_FLOOD_S", "1"))


def frames(field: Field, what: str) -> list[bytes]:
    """A few hundred frames of one kind, each different; sent again and again."""
    own, bridge, dice = field.hardware["squall"], field.gateway, random.Random(what)
    found = []
    for n in range(300):
        if what == "dhcp":
            client = dice.randbytes(8)
            head = struct.pack(">BBBBIHH", 1, 1, 6, 0, n, 0, 0) + bytes(16) + own.ljust(16, b"\0") + bytes(192)
            body = head + b"\x63\x82\x53\x63\x35\x01\x01\x3d" + bytes((len(client),)) + client + b"\xff"
            found.append(ethernet(bridge, own, 0x0800, udp("0.0.0.0", "255.255.255.255", 67, body, 68)))
        elif what == "dns":
            # Every query another one behind its question, of up to 1,200 bytes.
            tail = dice.randbytes(1150)
            extra = b"\0\0\x29\x04\xd0\0\0\0\0" + struct.pack(">HHH", len(tail) + 4, 65001, len(tail)) + tail
            name = b"\x08" + dice.randbytes(4).hex().encode() + b"\x05siege\x08internal\0"
            query = struct.pack(">HHHHHH", n, 0x0100, 1, 0, 0, 1) + name + b"\0\1\0\1" + extra
            found.append(ethernet(bridge, own, 0x0800, udp("10.77.4.66", "10.77.4.2", 53, query, 1024 + n)))
        elif what == "arp":
            found.append(ethernet(b"\xff" * 6, own, 0x0806, arp_answer(own, f"10.77.4.{66 + n % 150}", "10.77.4.1")))
        else:
            address = f"fd77:4::{dice.randrange(1 << 16):x}:{dice.randrange(1 << 16):x}"
            found.append(ethernet(b"\x33\x33\0\0\0\1", own, 0x86DD, neighbour_solicitation("fd77:4::66", address, own)))
    return found


def size_of(folder: Path) -> int:
    return sum(f.stat().st_blocks * 512 for f in folder.rglob("*") if f.is_file())


def door_s(field: Field) -> float:
    began = time.monotonic()
    assert field.world.greets("host", "127.0.0.1", 2221)
    return time.monotonic() - began


def dhcp_s(field: Field) -> float:
    began = time.monotonic()
    said = field.on_console("gauge", "udhcpc -i eth0 -n -q -t 30 -T 1 -s /bin/true 2>&1")
    assert "lease of 10.77.4.20 obtained" in said, said
    return time.monotonic() - began


# How long the neighbour's door takes while the other guest does nothing, and while it only computes: on a machine of
# two threads that alone takes one of them from everybody. (Measured once.)
BESIDE: dict[str, float] = {}


def beside(field: Field) -> dict[str, float]:
    if not BESIDE:
        BESIDE["quiet"] = sorted(door_s(field) for _ in range(5))[2]
        # As long as a flood lasts, as the worst of many is worse than the worst of few.
        command = f"timeout {int(FLOOD_S + 4)} sh -c 'while :; do :; done'"
        computing = threading.Thread(target=field.on_console, args=("squall", command, FLOOD_S + 90))
        computing.start()
        time.sleep(1.0)
        doors = []
        while computing.is_alive():
            doors.append(door_s(field))
            time.sleep(0.2)
        computing.join()
        BESIDE["computing"] = max(doors)
    return BESIDE


COMMANDS = {
    "agent": "for p in /dev/vport*p1; do timeout {s} yes > $p; done 2>/dev/null",
    "console": "timeout {s} yes 'a line that fills the record of this console' > /dev/ttyS0",
}


@pytest.mark.parametrize("what", ["dhcp", "dns", "arp", "nd", "agent", "console"])
def test_a_flood_keeps_nobody_from_anything(field: Field, what: str) -> None:
    report = Report()
    usual, quiet_dhcp = beside(field), dhcp_s(field)
    before = size_of(field.folder / "state")
    if what in COMMANDS:
        command = COMMANDS[what].format(s=int(FLOOD_S + 2))
    else:
        field.put(
            "squall", "flood", b"".join(struct.pack("<H", len(f)) + f.ljust(1534, b"\0") for f in frames(field, what))
        )
        command = f"end=$(( $(date +%s) + {int(FLOOD_S + 2)} )); while [ $(date +%s) -lt $end ]; do " \
                  "/home/ops/send < /home/ops/flood; done"  # fmt: skip
    flood = threading.Thread(target=field.on_console, args=("squall", command, FLOOD_S + 90))
    flood.start()
    time.sleep(1.0)
    doors, leases, most = [], [], 0
    while flood.is_alive():
        doors.append(door_s(field))
        leases.append(dhcp_s(field))
        if what == "agent":
            field.lab("guest", "show", "squall", code=None, timeout=60)
        most = max(most, *memory_of().values())
    flood.join()
    grown = size_of(field.folder / "state") - before
    print(
        f"\n{what}: door {usual['quiet']:.2f} s quiet, {usual['computing']:.2f} s beside a guest that only computes, "
        f"{max(doors):.2f} s at the worst; DHCP {quiet_dhcp:.2f} s quiet, {max(leases):.2f} s; "
        f"memory of a process {most} MiB at the most; disk +{grown >> 10} KiB"
    )
    report.shut(f"{what} flood: memory of a process over {MOST_MIB} MiB", most if most >= MOST_MIB else 0)
    report.shut(f"{what} flood: disk", f"{grown >> 20} MiB" if grown > 12 << 20 else "")
    report.open(f"{what} flood: the neighbour's door, after", door_s(field))
    report.open(f"{what} flood: its lease, after", dhcp_s(field))
    name = field.lab("connect", "gauge", "--", "nslookup gauge.siege.internal 10.77.4.2").out
    report.open(f"{what} flood: names, after", "10.77.4.20" in name)
    report.judge()
