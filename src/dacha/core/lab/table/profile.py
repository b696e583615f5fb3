"""System profiles: default values for a family of systems. Profiles are TOML files, Dacha's own or the
administrator's."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import tomli

from dacha.core import units
from dacha.core.findings import Finding
from dacha.core.lab import fields
from dacha.core.lab.buses import BUSES
from dacha.core.lab.kinds import CLOCKS, FIRMWARES, MODELS
from dacha.core.lab.table.reader import Table
from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from dacha.core.lab.kinds import Clock, Firmware, Model


class Minimum(NamedTuple):
    """The minimum requirements of a system, as its maker states them; None for no requirement."""

    cpus: int | None = None
    memory: int | None = None
    disk: int | None = None
    # Memory during an installation.
    installer_memory: int | None = None


class Profile(NamedTuple):
    """The values of one family; the defaults are those of a guest without a specified system."""

    cpus: int = 1
    memory: int = units.GIB
    disk: int = 8 * units.GIB
    bus: str = "virtio"
    model: Model = "virtio"
    firmware: Firmware = "bios"
    clock: Clock = "utc"
    video: bool = True
    resolution: tuple[int, int] | None = None
    secure_boot: bool = False
    tpm: bool = False
    minimum: Minimum = Minimum()


PLAIN = Profile()
Profiles = Mapping[str, Profile]


def read_profile(name: str, text: str) -> tuple[Profile, list[Finding]]:
    """The profile in a file's text, with its errors. Raises tomli.TOMLDecodeError."""
    findings: list[Finding] = []
    t = Table(tomli.loads(text), ("profile", name), findings)
    least = t.table("minimum")
    minimum = Minimum()
    if least:
        minimum = Minimum(
            least.take("cpus", fields.whole(1, 255), None),
            least.take("memory", units.memory, None),
            least.take("disk", units.disk_size, None),
            least.take("installer-memory", units.memory, None),
        )
        least.finish()
    profile = Profile(
        cpus=t.take("cpus", fields.whole(1, 255), PLAIN.cpus),
        memory=t.take("memory", units.memory, PLAIN.memory),
        disk=t.take("disk", units.disk_size, PLAIN.disk),
        bus=t.take("bus", fields.choice(*BUSES), PLAIN.bus),
        model=t.take("model", fields.choice(*MODELS), PLAIN.model),
        firmware=t.take("firmware", fields.choice(*FIRMWARES), PLAIN.firmware),
        clock=t.take("clock", fields.choice(*CLOCKS), PLAIN.clock),
        video=t.take("video", fields.flag, PLAIN.video),
        resolution=t.take("resolution", fields.resolution, PLAIN.resolution),
        secure_boot=t.take("secure-boot", fields.flag, PLAIN.secure_boot),
        tpm=t.take("tpm", fields.flag, PLAIN.tpm),
        minimum=minimum,
    )
    t.finish()
    return profile, findings
