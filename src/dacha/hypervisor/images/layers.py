"""A disk as QEMU is told of it: its image, and those that it lies on."""

from __future__ import annotations

from dacha.core.named import NamedTuple


class Layer(NamedTuple):
    """One image of a disk: its format, and the name by which QEMU opens it. What it lies on comes after it."""

    format: str
    file: str
