"""What guests use of this host: counters at two moments, and the rates between them."""

from __future__ import annotations

from collections.abc import Mapping

from dacha.core.named import NamedTuple
from dacha.core.network.door_counts import DoorBytes

DAY_S = 86400.0


class Sample(NamedTuple):
    """A guest's counters and sizes at a moment (`at`: seconds of the monotonic clock): `cpu_s` of its QEMU process;
    memory in bytes, `resident` on this host, `promised` to the guest, and `available` inside as the guest says (None if
    it does not); bytes of its disks `read` and `written` (None if QEMU does not answer); bytes `received` and `sent`
    by the guest (None on user networks, which have no counters)."""

    at: float
    cpu_s: float
    resident: int
    promised: int
    available: int | None
    read: int | None
    written: int | None
    received: int | None
    sent: int | None


class Storage(NamedTuple):
    """The files of a guest on this host: their size in bytes, and how old its oldest disk is (seconds; None without a
    disk); the bytes a day that they grew by as `measured` (None: not measured)."""

    size: int
    age_s: float | None
    measured: float | None = None

    @property
    def growth(self) -> float | None:
        """Growth in bytes a day: as measured, else the average since its oldest disk was created (None in its first
        hour)."""
        if self.measured is not None:
            return self.measured
        return None if self.age_s is None or self.age_s < 3600.0 else self.size * DAY_S / self.age_s


class Rates(NamedTuple):
    """What a guest used between two samples: processors, and bytes a second; None for what is not known."""

    cpu: float
    read: float | None
    written: float | None
    received: float | None
    sent: float | None


class Place(NamedTuple):
    """A file system with disks of the lab: its folder, its size and free space, what the lab's guests use of it and may
    still use by their disks' sizes (bytes), and how much it grows in a day."""

    folder: str
    size: int
    free: int
    used: int
    promised: int
    growth: float | None

    @property
    def full_in_days(self) -> float | None:
        """When it is full at this rate; None if it does not grow, or that is not known."""
        return self.free / self.growth if self.growth and self.growth > 0 else None


class HostUsage(NamedTuple):
    """This host: its processors and memory (bytes), what running guests were promised and use, and what is left."""

    cpus: int
    cpus_promised: int
    cpu: float
    memory: int
    memory_promised: int
    memory_resident: int
    memory_free: int
    places: tuple[Place, ...]


def rates(before: Sample, after: Sample) -> Rates:
    """The rates between two samples of the same process."""
    seconds = max(1e-6, after.at - before.at)

    def rate(old: int | None, new: int | None) -> float | None:
        return None if old is None or new is None else max(0, new - old) / seconds

    return Rates(
        cpu=max(0.0, after.cpu_s - before.cpu_s) / seconds,
        read=rate(before.read, after.read),
        written=rate(before.written, after.written),
        received=rate(before.received, after.received),
        sent=rate(before.sent, after.sent),
    )


def door_rates(
    before: Mapping[tuple[str, str], DoorBytes], after: Mapping[tuple[str, str], DoorBytes], seconds: float
) -> dict[tuple[str, str], tuple[float, float]]:
    """The bytes a second that came in and went out through each door, by guest and door, from two looks at its
    counters; without a door that was not counted before. A counter that went back was reset."""
    seconds = max(1e-6, seconds)
    return {
        key: (max(0, new.received - old.received) / seconds, max(0, new.sent - old.sent) / seconds)
        for key, new in after.items()
        if (old := before.get(key))
    }
