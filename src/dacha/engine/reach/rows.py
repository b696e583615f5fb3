"""What `status` shows: a row for each guest, and one for each door."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from dacha.core.apply.changes import Change
from dacha.core.apply.observed import ObservedGuest
from dacha.core.endpoint import Endpoint
from dacha.core.findings import Finding
from dacha.core.lab.model import Guest
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import DoorPlan

if TYPE_CHECKING:
    from dacha.core.apply.first_boot_state import FirstBootState
    from dacha.core.log.ends import End
    from dacha.core.network.confinement import Confinement


class DoorRow(NamedTuple):
    """A door: where it is entered (None: nowhere), at the farthest place that it is open to ("host", "LAN", "outside"),
    and whether it responds (`ok` None: not probed), with what was seen, in words."""

    plan: DoorPlan
    reached_from: str
    place: Endpoint | None
    ok: bool | None
    now: str
    # It does not respond, and its server need not run always.
    excused: bool = False
    # It responds on the LAN, but not from outside; or on this host, which is disconnected from the LAN.
    inside_only: bool = False

    @property
    def enter_at(self) -> str:
        """Where it is entered, in words."""
        if self.place is None:
            return "nowhere"
        ports = self.plan.port if self.plan.means == "forward" and self.reached_from != "outside" else None
        last = f"-{ports.last}" if ports and ports.width > 1 else ""
        return f"{self.reached_from} {self.place}{last}"

    @property
    def silent(self) -> bool:
        """True if it should respond and does not."""
        return self.ok is False and not self.excused


class GuestRow(NamedTuple):
    guest: Guest | None
    name: str
    seen: ObservedGuest
    state: str
    addresses: list[str]
    doors: list[DoorRow]
    first_boot: FirstBootState | None = None
    # Of a guest that is off: why its last process ended, and when (Unix seconds).
    ended: tuple[End, float] | None = None


class Status(NamedTuple):
    """The lab's state. `pending` are the changes that `apply` would make, `unserved` are networks of running guests
    without DHCP and DNS, `still_open` are open doors that are no longer in the file: guest, and description.
    `confinement` is the observed state of the rules that confine guests; None if no guest needs them or root is needed;
    `refused` is what prevents `apply` from making pending changes; `low` are file systems with disks that are nearly
    full."""

    guests: list[GuestRow]
    pending: list[Change]
    exposed: list[str]
    unserved: list[str]
    still_open: list[tuple[str, str]]
    confinement: Confinement | None = None
    refused: Sequence[Finding] = ()
    low: Sequence[str] = ()
