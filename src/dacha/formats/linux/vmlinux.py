"""Linux's kernel as an ELF image, and a variant that an emulated machine starts faster (ELF-64: System V ABI, "Object
Files"; Linux 6.1, arch/x86/kernel/alternative.c: apply_returns)."""

from __future__ import annotations

import struct

_ALLOCATED, _PROGBITS = 2, 1
_SECTION = struct.Struct("<IIQQQQIIQQ")
_JUMP, _RETURN = 0xE9, b"\xc3\xcc\xcc\xcc\xcc"
# The registers that hold the begin and end of the list: mov $start,%rdi; mov $end,%rsi.
_BEGIN, _END = b"\x48\xc7\xc7", b"\x48\xc7\xc6"
# The maximum distance of both instructions, in octets.
_NEAR = 16


def quick_to_start(kernel: bytes) -> bytes:
    """The kernel with its returns patched in advance. It is compiled with a jump for each, to code with mitigations;
    with `mitigations=off` it replaces some 50,000 of them at its start, which costs an emulated processor a tenth of
    the start. Here this is done beforehand, and the list is made empty. An image with any unexpected detail is returned
    unchanged."""
    try:
        return _with_returns(bytearray(kernel))
    except (LookupError, struct.error, ValueError):
        return kernel


def _with_returns(image: bytearray) -> bytes:
    """Raises LookupError, struct.error or ValueError if the image differs from what is expected."""
    sections = _sections(image)
    start, at, size = sections[".return_sites"]
    code = [section for section in sections.values() if section[1]]

    def place(address: int) -> int:
        for begins, offset, length in code:
            if begins <= address < begins + length:
                return offset + address - begins
        raise LookupError(address)

    targets = set()
    for n, (distance,) in enumerate(struct.iter_unpack("<i", image[at : at + size])):
        address = start + 4 * n + distance
        where = place(address)
        if image[where] != _JUMP:
            raise ValueError("a return that is no jump")
        targets.add(address + 5 + struct.unpack_from("<i", image, where + 1)[0])
        image[where : where + 5] = _RETURN
    low, high = (struct.pack("<I", address & 0xFFFFFFFF) for address in (start, start + size))
    begin, end = _only(image, _BEGIN + low), _only(image, _END + high)
    if len(targets) != 1 or abs(end - begin) > _NEAR:
        raise ValueError("not one place that all returns go by")
    image[end + len(_END) : end + len(_END) + 4] = low
    return bytes(image)


def _sections(image: bytearray) -> dict[str, tuple[int, int, int]]:
    """The loaded sections by name: address, file offset, length; at 0 for one without contents."""
    (table,) = struct.unpack_from("<Q", image, 0x28)
    size, count, names = struct.unpack_from("<HHH", image, 0x3A)
    if not image.startswith(b"\x7fELF\x02\x01") or size != _SECTION.size:
        raise ValueError("not an ELF image of 64 bits")
    headers = [_SECTION.unpack_from(image, table + n * size) for n in range(count)]
    found = {}
    for name, kind, flags, address, offset, length, *_ in headers:
        if flags & _ALLOCATED:
            begins = headers[names][4] + name
            told = image[begins : image.index(0, begins)].decode("ascii")
            found[told] = (address, offset if kind == _PROGBITS else 0, length)
    return found


def _only(image: bytearray, wanted: bytes) -> int:
    """The offset of the only occurrence."""
    found = image.index(wanted)
    if image.find(wanted, found + 1) >= 0:
        raise ValueError("more than once")
    return found
