"""A machine as other programs describe it in an OVF package: what of it becomes a guest."""

from __future__ import annotations

from dacha.core.named import NamedTuple


class ApplianceDisk(NamedTuple):
    """A disk: the file with its contents ("" for an empty disk), and its size (bytes)."""

    file: str
    size: int


class Appliance(NamedTuple):
    """A machine: its name, virtual CPUs, memory (bytes), the family of its system as in a lab file, its firmware, its
    disks in the order in which its firmware counts them, and the model of each adapter."""

    name: str
    cpus: int
    memory: int
    system: str
    firmware: str
    disks: tuple[ApplianceDisk, ...]
    adapters: tuple[str, ...]
