"""Which USB device goes to which guest."""

from __future__ import annotations

import pytest

from dacha.core.apply.changes.usb_changes import AttachUsb, DetachUsb
from dacha.core.apply.usb import Has, seats, usb_changes
from dacha.core.errors import BadValue
from dacha.core.lab.usb import HostDevice, HostUse, Usb, from_text, matched

SENSOR = Usb(device="1209:2303")
PROBE = HostDevice(1, 4, "1-2", "1209:2303", "A1", "Tide probe")
OTHER = HostDevice(1, 5, "1-3", "1209:2303", "A2", "Tide probe")
HUB = HostDevice(1, 2, "1-1", "1209:0002", hub=True)


@pytest.mark.parametrize(
    ("text", "usb"),
    [
        ("1209:2303", SENSOR),
        ("1209:ABCD", Usb(device="1209:abcd")),
        ("0x1209:0x2303", SENSOR),
        ("1209:2303=A=1", Usb(device="1209:2303", serial="A=1")),
        ("1-4.2.1", Usb(port="1-4.2.1")),
        ("port 2-1", Usb(port="2-1")),
    ],
)
def test_a_device_is_read_as_people_write_it(text: str, usb: Usb) -> None:
    assert from_text(text) == usb
    assert from_text(usb.written) == usb and from_text(str(usb)) == usb
    assert usb.identifier.replace("-", "").replace(".", "").isalnum()


@pytest.mark.parametrize(
    "text",
    ["", "1209", "1209:23", "12095:2303", "1209:230g", "1-", "-4", "1-0", "1-4.", "1209:2303=", "1209:2303=\x07",
     "1209:2303=" + "x" * 127],
)  # fmt: skip
def test_what_is_no_device_is_refused(text: str) -> None:
    with pytest.raises(BadValue) as refused:
        from_text(text)
    assert refused.value.remedy


def test_a_serial_number_or_a_port_decides_between_equal_devices() -> None:
    named, by_port = Usb(device="1209:2303", serial="A1"), Usb(port="1-3")
    assert matched([SENSOR], [OTHER, PROBE, HUB]) == {SENSOR: [PROBE, OTHER]}
    assert matched([SENSOR, named], [PROBE, OTHER]) == {SENSOR: [OTHER], named: [PROBE]}
    assert matched([SENSOR, by_port], [PROBE, OTHER]) == {SENSOR: [PROBE], by_port: [OTHER]}
    # A hub is never given away, by whatever it is named.
    assert matched([Usb(port="1-1"), Usb(device="1209:0002")], [HUB]) == {
        Usb(port="1-1"): [],
        Usb(device="1209:0002"): [],
    }


def changes(wanted: dict[str, list[Usb]], here: list[HostDevice], has: dict[str, Has]) -> list[AttachUsb | DetachUsb]:
    return usb_changes(seats(wanted, here, has), has)


def test_a_running_guest_gets_what_is_plugged_in() -> None:
    wanted = {"gauge": [SENSOR]}
    assert changes(wanted, [PROBE], {"gauge": {}}) == [AttachUsb("gauge", SENSOR, PROBE)]
    assert changes(wanted, [], {"gauge": {}}) == changes(wanted, [PROBE], {}) == []
    # It has it: nothing to do. Plugged in again, it has another number: the former one is taken away first.
    mine = {SENSOR.identifier: (1, 4)}
    assert changes(wanted, [PROBE], {"gauge": mine}) == []
    again = PROBE._replace(number=9)
    assert changes(wanted, [again], {"gauge": mine}) == [
        DetachUsb("gauge", SENSOR.identifier), AttachUsb("gauge", SENSOR, again)
    ]  # fmt: skip
    assert changes(wanted, [], {"gauge": mine}) == [DetachUsb("gauge", SENSOR.identifier)]
    # No longer in the lab file; the guest as well.
    assert changes({}, [PROBE], {"gauge": mine}) == [DetachUsb("gauge", SENSOR.identifier)]
    # Another device now has its number.
    stranger = HostDevice(1, 4, "1-2", "1209:9999")
    assert changes(wanted, [stranger], {"gauge": mine}) == [DetachUsb("gauge", SENSOR.identifier)]


def test_a_guest_keeps_what_it_has_and_the_first_one_gets_what_is_free() -> None:
    wanted = {"gauge": [SENSOR], "heron": [SENSOR]}
    has: dict[str, Has] = {"gauge": {}, "heron": {}}
    assert changes(wanted, [PROBE], has) == [AttachUsb("gauge", SENSOR, PROBE)]
    assert changes(wanted, [PROBE, OTHER], has) == [
        AttachUsb("gauge", SENSOR, PROBE), AttachUsb("heron", SENSOR, OTHER)
    ]  # fmt: skip
    holding: dict[str, Has] = {"gauge": {}, "heron": {SENSOR.identifier: (1, 4)}}
    assert changes(wanted, [PROBE], holding) == []
    seated = seats(wanted, [PROBE], holding)
    assert seated["gauge"][0].holder == "heron" and seated["gauge"][0].given is None
    assert seated["heron"][0].attached


@pytest.mark.parametrize(
    ("use", "words", "remedy"),
    [
        (HostUse("mounted", "sdb1", "/mnt/tide data"), "sdb1 is mounted at /mnt/tide data", "umount '/mnt/tide data'"),
        (HostUse("swap", "sdb2"), "sdb2 is swap space", "swapoff /dev/sdb2"),
        (HostUse("part-of", "sdb", "md0"), "sdb belongs to md0", "take sdb out of md0, or use another device"),
        (HostUse("network", "eth1"), "its network adapter eth1 is up", "ip link set eth1 down"),
        (HostUse("keyboard"), "it is the only keyboard of this host", "connect another keyboard to this host"),
    ],
)
def test_what_this_host_uses_stays_here(use: HostUse, words: str, remedy: str) -> None:
    used = PROBE._replace(used=(use,))
    assert changes({"gauge": [SENSOR]}, [used], {"gauge": {}}) == []
    assert seats({"gauge": [SENSOR]}, [used], {"gauge": {}})["gauge"][0].use == use
    assert (str(use), use.remedy) == (words, remedy)
    # Another one of the same kind is free.
    assert changes({"gauge": [SENSOR]}, [used, OTHER], {"gauge": {}}) == [AttachUsb("gauge", SENSOR, OTHER)]
