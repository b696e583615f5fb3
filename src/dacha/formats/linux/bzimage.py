"""Linux's bzImage: extract the uncompressed kernel, which starts in half the time under emulation (kernel
documentation: arch/x86/boot)."""

from __future__ import annotations

import struct

_MAGIC_AT, _VERSION_AT, _SETUP_SECTORS_AT, _PAYLOAD_AT = 0x202, 0x206, 0x1F1, 0x248
_LZ4_LEGACY = b"\x02\x21\x4c\x18"


def uncompressed_kernel(image: bytes) -> bytes:
    """The ELF kernel inside a bzImage. Raises ValueError if there is none, or its compression is not supported."""
    if image[_MAGIC_AT : _MAGIC_AT + 4] != b"HdrS":
        raise ValueError("no Linux boot header")
    (version,) = struct.unpack_from("<H", image, _VERSION_AT)
    if version < 0x208:
        raise ValueError(f"boot protocol {version >> 8}.{version & 255:02} has no field for the kernel's offset")
    sectors = image[_SETUP_SECTORS_AT] or 4
    offset, length = struct.unpack_from("<II", image, _PAYLOAD_AT)
    start = (sectors + 1) * 512 + offset
    kernel = _unpack(image[start : start + length])
    if not kernel.startswith(b"\x7fELF"):
        raise ValueError("the compressed kernel is not an ELF file")
    return kernel


def _unpack(packed: bytes) -> bytes:
    if packed.startswith(b"\xfd7zXZ\x00"):
        import lzma

        return lzma.LZMADecompressor().decompress(packed)
    if packed.startswith(b"\x1f\x8b"):
        import zlib

        return zlib.decompressobj(wbits=31).decompress(packed)
    if packed.startswith(_LZ4_LEGACY):
        try:
            import lz4.block
        except ImportError:
            raise ValueError("compressed with LZ4, but the Python library lz4 is not installed") from None
        out, at = bytearray(), 4
        # Blocks of at most 8 MiB, each after its length (the "legacy frame" of the LZ4 frame format); the last four
        # bytes are the kernel's own length.
        while at + 8 <= len(packed):
            (size,) = struct.unpack_from("<I", packed, at)
            out += lz4.block.decompress(packed[at + 4 : at + 4 + size], uncompressed_size=8 << 20)
            at += 4 + size
        return bytes(out)
    raise ValueError(f"compressed in an unknown format ({packed[:4].hex()})")
