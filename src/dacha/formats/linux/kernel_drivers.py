"""Whether a Linux kernel, or the initial file system beside it, has a driver."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from mmap import mmap

_ELF, _NEWC = b"\x7fELF", b"070701"


def has_driver(files: Iterable[bytes | mmap], name: str) -> bool | None:
    """True when one of the files has the driver `name`, built in or as a module; None when that cannot be told.

    A kernel without packing (an ELF image) names each driver that is built into it in its data; an initial file
    system without packing (newc, cpio(5)) has a module by its file's name. In a packed one nothing can be seen.
    `files` is read as far as the driver is found: the smallest first costs the least.
    """
    dashed = name.replace("_", "-")
    words = [w.encode() for w in (f"{name}\0", f"{dashed}\0", f"{name}.ko", f"{dashed}.ko")]
    told = True
    for content in files:
        if any(content.find(word) >= 0 for word in words):
            return True
        told = told and content[: len(_NEWC)].startswith((_NEWC, _ELF))
    return False if told else None
