"""System profiles: sensible values for a family of systems, filled in where the lab leaves them out.

Profiles are data: a TOML file each, Dacha's own or the administrator's.
"""

from __future__ import annotations

from collections.abc import Mapping

import tomli

from dacha.core import units
from dacha.core.findings import Finding
from dacha.core.lab import fields
from dacha.core.lab.buses import BUSES
from dacha.core.lab.model import FIRMWARES, MODELS
from dacha.core.lab.reader import Table
from dacha.core.named import NamedTuple


class Minimum(NamedTuple):
    """What a system needs at the least, by its maker's word; None where there is none."""

    cpus: int | None = None
    memory: int | None = None
    disk: int | None = None
    # Memory, while it is installed from a medium or by its network.
    installer_memory: int | None = None


class Profile(NamedTuple):
    """The values of one family; the defaults are those of a guest whose system nobody named."""

    cpus: int = 1
    memory: int = units.GIB
    disk: int = 8 * units.GIB
    bus: str = "virtio"
    model: str = "virtio"
    firmware: str = "bios"
    clock: str = "utc"
    video: bool = True
    resolution: tuple[int, int] | None = None
    secure_boot: bool = False
    tpm: bool = False
    minimum: Minimum = Minimum()


PLAIN = Profile()
Profiles = Mapping[str, Profile]


def read_profile(name: str, text: str) -> tuple[Profile, list[Finding]]:
    """A profile from its file's text, with what is wrong in it. Raises tomli.TOMLDecodeError."""
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
        clock=t.take("clock", fields.choice("utc", "local"), PLAIN.clock),
        video=t.take("video", fields.flag, PLAIN.video),
        resolution=t.take("resolution", fields.resolution, PLAIN.resolution),
        secure_boot=t.take("secure-boot", fields.flag, PLAIN.secure_boot),
        tpm=t.take("tpm", fields.flag, PLAIN.tpm),
        minimum=minimum,
    )
    t.finish()
    return profile, findings
