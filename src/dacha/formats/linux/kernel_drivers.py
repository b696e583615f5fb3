"""Whether a Linux kernel, or its initrd, contains a driver."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from mmap import mmap

_ELF, _NEWC = b"\x7fELF", b"070701"


def has_driver(files: Iterable[bytes | mmap], name: str) -> bool | None:
    """True if one of the files contains the driver `name`, built in or as a module; None if that cannot be determined.
    An uncompressed kernel (an ELF image) has the name of each built-in driver in its data; an uncompressed initrd
    (newc, cpio(5)) has a module by its file name. Compressed files show nothing. `files` are read until the driver is
    found: pass the smallest first."""
    dashed = name.replace("_", "-")
    words = [w.encode() for w in (f"{name}\0", f"{dashed}\0", f"{name}.ko", f"{dashed}.ko")]
    told = True
    for content in files:
        if any(content.find(word) >= 0 for word in words):
            return True
        told = told and content[: len(_NEWC)].startswith((_NEWC, _ELF))
    return False if told else None
