"""Linux kernel modules: the `.modinfo` section, and a module without what slows its loading down."""

from __future__ import annotations

import re
import struct
from collections.abc import Mapping

# At the end of a signed module: the signature's length in the last 12 octets, then this (Linux,
# include/linux/module_signature.h).
_SIGNED = b"~Module signature appended~\n"
_SIGNATURE_INFO = struct.Struct(">8xI")
_DEPENDS = re.compile(rb"\0depends=([^\0]*)\0")


def depends(module: bytes) -> list[str]:
    """The modules to load before it, with "-" read as "_"."""
    match = _DEPENDS.search(module)
    return [d.replace("-", "_") for d in match[1].decode().split(",") if d] if match else []


def load_order(wanted: list[str], modules: Mapping[str, bytes]) -> list[str]:
    """`wanted` and all dependencies, in load order. Names not in `modules` are assumed to be built into the kernel."""
    order: list[str] = []

    def visit(name: str, above: tuple[str, ...]) -> None:
        if name in order or name not in modules or name in above:
            return
        for needed in depends(modules[name]):
            visit(needed, (*above, name))
        order.append(name)

    for name in wanted:
        visit(name, ())
    return order


def quick_to_load(module: bytes) -> bytes:
    """The module without its signature, and with its type data (BTF) under a name that the kernel does not look for: an
    emulated guest spends more time on these than on everything else. Requires a kernel that loads unsigned modules, so
    no Secure Boot."""
    if module.endswith(_SIGNED):
        end = len(module) - len(_SIGNED) - _SIGNATURE_INFO.size
        (length,) = _SIGNATURE_INFO.unpack_from(module, end)
        module = module[: end - length]
    return module.replace(b"\0.BTF\0", b"\0.btf\0")
