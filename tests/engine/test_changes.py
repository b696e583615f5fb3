"""The frame of changes is whole: each kind has its name, its words, its place in the order, and who carries it out."""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import get_args

import pytest

from dacha.core.apply.changes import (
    AskRouter,
    AttachDisk,
    AttachUsb,
    Caretaker,
    Change,
    ChangeAddress,
    ChangeInside,
    ChangeKeys,
    ChangeMachine,
    ChangeMedium,
    CloseFirewall,
    CloseForward,
    DeleteDisk,
    DetachDisk,
    DetachUsb,
    Forwarding,
    GrowDisk,
    LoadRules,
    MakeDisk,
    MakeHostKey,
    MakeLink,
    MoveDisk,
    MoveScreen,
    OpenFirewall,
    OpenForward,
    ReattachTap,
    RemoveLink,
    RemoveRules,
    StartGuest,
    StopGuest,
    WriteDown,
    WriteSeed,
    in_order,
    subject,
)
from dacha.core.apply.changes.change import END, FILE, GUESTS, HOST, KINDS, kind_of, phase_of
from dacha.core.inside.readdress import Move
from dacha.core.inside.setup_items import ItemChange
from dacha.core.lab.model import Disk
from dacha.core.lab.usb import HostDevice, Usb
from dacha.core.network.firewall.openings import Opening, Traffic
from dacha.core.network.links import TapLink
from dacha.core.people.keys_inside import KeyChange
from dacha.core.plan.doors import Forward
from dacha.engine.apply.carry_out import CARRIERS, ELSEWHERE

FORWARD = Forward("tcp", IPv4Address("127.0.0.1"), 2210, IPv4Address("10.77.4.10"), 22)
PROBE, HERE = Usb(device="1209:2303"), HostDevice(1, 4, "1-2", "1209:2303", name="Tide probe")
TAP = TapLink("dt1", "dacha:pier:guest:gauge:0", "fe:00:00:00:00:01", "db1", "gauge", 0)
# One of each kind, with its words before and after.
EACH: list[tuple[Change, str, str]] = [
    (WriteDown(("guest", "gauge", "memory"), '"1 GiB"'), 'guest gauge: memory = "1 GiB"', "guest gauge: "),
    (MakeHostKey("gauge"), "create its SSH host key", "created host key"),
    (MakeDisk("gauge", Disk("0", size=1 << 20)), "create disk 0, 1 MiB", "created disk 0 of 1 MiB"),
    (GrowDisk("gauge", "0", 1 << 30), "grow disk 0 to 1 GiB", "grew disk 0 to 1 GiB"),
    (
        MoveDisk("gauge", "0", "big", 1 << 30),
        "move disk 0 (1 GiB) to storage big",
        "moved disk 0 (1 GiB) to storage big",
    ),
    (
        MoveDisk("gauge", "0", None, 0),
        "move disk 0 (0 B) to the state folder",
        "moved disk 0 (0 B) to the state folder",
    ),
    (AttachDisk("gauge", "0", "scsi"), "attach disk 0 (scsi)", "attached disk 0 (scsi)"),
    (AttachUsb("gauge", PROBE, HERE), "attach the USB device 1209:2303 (Tide probe) at port 1-2", "attached the USB"),
    (DetachUsb("gauge", PROBE.identifier), "detach the USB device 1209-2303", "detached the USB device 1209-2303"),
    (DetachDisk("gauge", "0"), "detach disk 0 (", "detached disk 0 ("),
    (DeleteDisk("gauge", "0", 1 << 20), "delete disk 0 (1 MiB): its contents are lost", "deleted disk 0 (1 MiB)"),
    (MoveScreen("gauge", "lan", 5901), "let its display listen for lan", "its display listens for lan on port 5901"),
    (MoveScreen("gauge", None, None), "close its display", "closed its display"),
    (WriteSeed("gauge", "x"), "create its first-boot data", "created first-boot data"),
    (
        ChangeKeys("gauge", (KeyChange("ops", ("ssh-ed25519 A mara@pier",), ("ssh-ed25519 BBBBBBBBBB",)),)),
        "keys: add mara@pier to ops; remove …BBBBBBBB from ops",
        "keys: added mara@pier to ops; removed …BBBBBBBB from ops",
    ),
    (
        ChangeKeys("gauge", (KeyChange("kim", own=True), KeyChange("jo", own=True, shut=True))),
        "keys: create the account kim; lock the account jo",
        "keys: created the account kim; locked the account jo",
    ),
    (
        ChangeAddress("gauge", (Move("02:00:00:00:00:01", IPv4Address("10.77.4.20"), IPv4Address("10.77.4.30"), 24),)),
        "address 10.77.4.20 → 10.77.4.30, while it runs",
        "address 10.77.4.20 → 10.77.4.30",
    ),
    (
        ChangeInside(
            "gauge", ItemChange(("package tmux", "user mara"), ("file /etc/motd",), ("time zone",)), ("left x",)
        ),
        "inside: add package tmux, user mara; change file /etc/motd; take back time zone",
        "inside: added package tmux, user mara; changed file /etc/motd; took back time zone; left x",
    ),
    (MakeLink(TAP, False), "create the tap of gauge's adapter 0", "created the tap of gauge's adapter 0"),
    (MakeLink(TAP, True), "repair the tap", "repaired the tap"),
    (ReattachTap("gauge", 0, "dt1"), "attach adapter 0 again", "attached adapter 0 again"),
    (RemoveLink("dt1", TAP.alias), "remove dt1 (guest gauge 0)", "removed dt1 (guest gauge 0)"),
    (LoadRules(2, False), "load its rules (2 doors)", "loaded its rules (2 doors)"),
    (LoadRules(1, True, (("gauge", "ssh"),)), "replace its rules (1 door; opens gauge ssh)", "replaced its rules"),
    (RemoveRules(), "remove its rules", "removed its rules"),
    (Forwarding(True), "enable IP forwarding", "enabled IP forwarding"),
    (
        OpenFirewall(
            (
                Opening(Traffic("door gauge ssh", "forward", 4), "ufw"),
                Opening(Traffic("network pier", "input", 4), "ufw"),
            )
        ),
        "allow in its own firewall: door gauge ssh in ufw, network pier in ufw",
        "allowed in its own firewall: door gauge",
    ),
    (
        CloseFirewall((Opening(Traffic("door gauge ssh", "forward", 4), "nft"),)),
        "remove from its own firewall: door gauge ssh in nft",
        "removed from its own firewall: door gauge ssh",
    ),
    (AskRouter((("gauge", "ssh"),)), "ask the router to forward gauge ssh", "asked the router to forward"),
    (Caretaker(True), "start the caretaker", "started the caretaker"),
    (
        Caretaker(True, anew=True),
        "start the caretaker again, with this version",
        "started the caretaker again, with this",
    ),
    (StartGuest("gauge"), "start", "started"),
    (StopGuest("gauge"), "stop: it is no longer", "stopped: it is no longer"),
    (OpenForward("gauge", "ssh", FORWARD), "open door ssh: tcp 127.0.0.1:2210", "opened: tcp 127.0.0.1:2210"),
    (CloseForward("gauge", FORWARD), "close tcp 127.0.0.1:2210", "closed tcp 127.0.0.1:2210"),
    (ChangeMedium("gauge", 0, "/m/debian-12.iso"), "insert debian-12.iso", "inserted debian-12.iso"),
    (ChangeMedium("gauge", 1, None), "eject the medium in drive 1", "ejected the medium in drive 1"),
    (ChangeMachine("gauge", "memory 1 GiB → 2 GiB", "memory_mib"), "memory 1 GiB → 2 GiB", "memory"),
]


def test_every_kind_is_in_every_table() -> None:
    kinds = set(get_args(Change))
    assert set(KINDS) == kinds == set(CARRIERS) | set(ELSEWHERE) == {type(c) for c, _, _ in EACH}
    assert not set(CARRIERS) & set(ELSEWHERE)
    names = [kind.name for kind in KINDS.values()]
    assert len(set(names)) == len(names)
    # Scripts read these: a class may be renamed, its kind not.
    assert {"make-disk", "start-guest", "open-forward", "load-rules", "change-machine"} <= set(names)


@pytest.mark.parametrize(("change", "todo", "done"), EACH, ids=[kind_of(c) for c, _, _ in EACH])
def test_its_words_say_what_is_to_be_done_and_what_was(change: Change, todo: str, done: str) -> None:
    assert str(change).startswith(todo) and change.done().startswith(done)
    assert subject(change) in ("lab file", "this host", "guest gauge", "door gauge ssh")


def test_the_order_is_file_host_guests_and_then_what_ends() -> None:
    mixed: list[Change] = [
        Caretaker(False), RemoveLink("dt1", TAP.alias), StartGuest("gauge"), MakeDisk("gauge", Disk("0")),
        LoadRules(1, False), Forwarding(True), Forwarding(False), WriteDown(("lab", "name"), "x"),
        ChangeMachine("buoy", "memory", "memory_mib"),
    ]  # fmt: skip
    ordered = in_order(mixed)
    assert [phase_of(c) for c in ordered] == [FILE, HOST, HOST, GUESTS, GUESTS, END, END, END, END]
    # Within a phase they stay as they came: a disk is not made after the start that needs it by chance of sorting.
    assert ordered[3:5] == [StartGuest("gauge"), MakeDisk("gauge", Disk("0"))]
    assert ordered[1:3] == [LoadRules(1, False), Forwarding(True)]
