"""A disk for QEMU: its image and its backing images."""

from __future__ import annotations

from dacha.core.named import NamedTuple


class Layer(NamedTuple):
    """One image of a disk: its format, and its name for QEMU. Its backing image comes next."""

    format: str
    file: str
