"""A disk for QEMU: its image and its backing images."""

from __future__ import annotations

from dacha.core.named import NamedTuple


class Layer(NamedTuple):
    """One image of a disk: its format, its name for QEMU, and the identifier of the secret that opens it if it is
    encrypted. Its backing image comes next."""

    format: str
    file: str
    secret: str | None = None
