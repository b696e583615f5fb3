"""What the first sectors of a disk show: its partition table, and which firmware finds a boot loader there."""

from __future__ import annotations

import struct

from dacha.core.named import NamedTuple

SECTORS = 34  # protective MBR, GPT header, 128 entries of 128 bytes (UEFI 2.10 section 5.3)
_ESP = bytes.fromhex("28732ac11ff8d211ba4b00a0c93ec93b")  # EFI system partition, as stored (mixed byte order)


class BootSectors(NamedTuple):
    """`table` is gpt, mbr or none; `bios` and `uefi` tell whether that firmware finds a boot loader."""

    table: str
    bios: bool
    uefi: bool

    @property
    def bootable(self) -> bool:
        return self.bios or self.uefi


def boot_sectors(data: bytes) -> BootSectors:
    """Examine the first `SECTORS` sectors of 512 bytes; fewer are examined as far as they go."""
    data = data.ljust(SECTORS * 512, b"\0")
    signed = data[510:512] == b"\x55\xaa"
    # Boot code precedes the partition entries; a blank disk that was only partitioned has none.
    bios = signed and any(data[:440])
    types = [data[446 + 16 * n + 4] for n in range(4)] if signed else []
    if data[512:520] == b"EFI PART":
        size = max(128, struct.unpack_from("<I", data, 512 + 84)[0])
        entries = [data[1024 + n * size :][:16] for n in range(min(128, (len(data) - 1024) // size))]
        return BootSectors("gpt", bios, _ESP in entries or 0xEF in types)
    if signed and any(types):
        return BootSectors("mbr", bios, 0xEF in types)
    return BootSectors("none", bios, False)
