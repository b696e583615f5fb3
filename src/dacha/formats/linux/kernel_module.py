"""What a Linux kernel module says of itself in its `.modinfo` section."""

from __future__ import annotations

import re
from collections.abc import Mapping

_DEPENDS = re.compile(rb"\0depends=([^\0]*)\0")


def depends(module: bytes) -> list[str]:
    """The modules it needs loaded before it, with "-" read as "_"."""
    match = _DEPENDS.search(module)
    return [d.replace("-", "_") for d in match[1].decode().split(",") if d] if match else []


def load_order(wanted: list[str], modules: Mapping[str, bytes]) -> list[str]:
    """`wanted` and all they need, in the order in which they can be loaded. Names not in `modules` are
    taken to be built into the kernel."""
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
