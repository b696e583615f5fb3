"""What a kernel takes of a guest's memory is read from the beginning of its file."""

from __future__ import annotations

import struct

import pytest

from dacha.formats.linux.kernel_memory import HEAD, kernel_memory


def elf(*sizes: int, kind: int = 1) -> bytes:
    head = struct.pack("<16sHHIQQQIHHHHHH", b"\x7fELF\x02\x01\x01", 2, 62, 1, 0, 64, 0, 0, 64, 56, len(sizes), 0, 0, 0)
    return head + b"".join(struct.pack("<IIQQQQQQ", kind, 5, 0, 0, 0, 10, size, 4096) for size in sizes)


def boot_image(version: int, size: int) -> bytes:
    image = bytearray(HEAD)
    image[0x202:0x206] = b"HdrS"
    struct.pack_into("<H", image, 0x206, version)
    struct.pack_into("<I", image, 0x260, size)
    return bytes(image)


def test_a_kernels_memory_is_read_from_its_file() -> None:
    assert kernel_memory(elf(1000, 24)) == 1024 and kernel_memory(elf(1000, kind=4)) == 0
    assert kernel_memory(boot_image(0x20F, 51 << 20)) == 51 << 20


@pytest.mark.parametrize(
    "other", [b"", b"\x7fELF", elf(1)[:70], boot_image(0x204, 1), boot_image(0x20F, 1)[:0x210], b"MZ"]
)
def test_what_is_no_such_kernel_tells_nothing(other: bytes) -> None:
    assert kernel_memory(other) is None
