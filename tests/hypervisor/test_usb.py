"""USB devices in QEMU, by what its monitor says: a monitor that has been written down."""

from __future__ import annotations

from typing import Any, cast

from dacha.hypervisor.live.usb import Attached, attached
from dacha.hypervisor.monitor.qmp import Qmp

NAME = "usb-1209-2303"


class Monitor:
    """Answers of QEMU 7.2."""

    def __init__(self, fdsets: list[dict[str, Any]], *names: str) -> None:
        self.told = {
            "qom-list": [{"name": n, "type": "child<usb-host>"} for n in names]
            + [{"name": "usb", "type": "child<qemu-xhci>"}, {"name": "type", "type": "string"}],
            "query-fdsets": fdsets,
        }

    def execute(self, command: str, arguments: dict[str, Any] | None = None) -> Any:
        return self.told[command]


def has(fdsets: list[dict[str, Any]], *names: str) -> list[Attached]:
    return attached(cast(Qmp, Monitor(fdsets, *names)))


def of(number: int, opaque: str | None) -> dict[str, Any]:
    return {"fdset-id": number, "fds": [{"fd": 30 + number} | ({"opaque": opaque} if opaque else {})]}


def test_of_a_device_that_was_plugged_in_again_the_newest_file_counts() -> None:
    # QEMU lists the newest set first.
    sets = [of(9, f"usb {NAME} 1 7"), of(4, None), of(3, f"usb {NAME} 1 4"), of(2, "a disk")]
    assert has(sets, NAME) == has(sets[::-1], NAME) == [Attached(NAME, (1, 7))]


def test_a_device_without_a_file_of_ours_is_known_by_its_name_only() -> None:
    assert has([], NAME) == [Attached(NAME, None)]
    assert has([of(3, f"usb {NAME} 1 4")]) == []
