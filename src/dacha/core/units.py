"""Sizes, durations and ports as people write them.

Every reader takes the value found in the file and returns what it means. Raises BadValue.
"""

from __future__ import annotations

import re

from dacha.core.errors import BadValue

KIB, MIB, GIB, TIB = 1 << 10, 1 << 20, 1 << 30, 1 << 40
_SIZE_UNITS = {
    "B": 1,
    "KIB": KIB,
    "MIB": MIB,
    "GIB": GIB,
    "TIB": TIB,
    "KB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "TB": 10**12,
}
# A single letter means 1000 to half of the trade and 1024 to the other half, so the unit must be written out.
_AMBIGUOUS = {"K": "KiB", "M": "MiB", "G": "GiB", "T": "TiB"}
_TIME_UNITS = {"ms": 0.001, "s": 1.0, "min": 60.0, "h": 3600.0, "d": 86400.0, "day": 86400.0, "days": 86400.0}
# QEMU and the kernel count bytes in 63 bits.
LARGEST = 8191 << 50
YEAR_S = 365 * 86400.0
_NUMBER_UNIT = re.compile(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([A-Za-z]*)\s*\Z")


def whole_number(text: str) -> int | None:
    """The number in ASCII digits, None for any other text: str.isdigit() accepts digits of other scripts, some of which
    int() refuses."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= 18 else None


def size(value: object) -> int:
    """Bytes from "512 MiB", "8GiB", "1.5 TB"."""
    match = _NUMBER_UNIT.match(value) if isinstance(value, str) else None
    if isinstance(value, int) and not isinstance(value, bool):
        raise BadValue(f"{value} has no unit", f'write "{value} MiB" or "{value} GiB"')
    if not match:
        raise BadValue(f"{value!r} is not a size", 'write a number and a unit: "512 MiB", "8 GiB"')
    number, unit = match.groups()
    if unit.upper() in _AMBIGUOUS:
        raise BadValue(f"{value!r} has the ambiguous unit {unit}", f'write "{number} {_AMBIGUOUS[unit.upper()]}"')
    factor = _SIZE_UNITS.get(unit.upper())
    if factor is None:
        why = f"has the unknown unit {unit}" if unit else "has no unit"
        raise BadValue(f"{value!r} {why}", f'units are KiB, MiB, GiB, TiB: "{number} MiB" or "{number} GiB"')
    amount = float(number) * factor
    if amount > LARGEST:
        raise BadValue(f"{number[:20]}{'…' if len(number) > 20 else ''} {unit} is too large", "the maximum is 8191 PiB")
    return round(amount)


def memory(value: object) -> int:
    """Bytes of memory: at least 16 MiB and whole MiB, because the hypervisor allocates no less."""
    amount = size(value)
    if amount < 16 * MIB:
        raise BadValue(f"{show_size(amount)} is too little memory", "the minimum is 16 MiB")
    if amount % MIB:
        raise BadValue(f"{value!r} is not a whole number of MiB", f'write "{max(16, round(amount / MIB))} MiB"')
    return amount


def disk_size(value: object) -> int:
    """Bytes of a disk: at least 1 MiB and whole sectors of 512 bytes."""
    amount = size(value)
    if amount < MIB:
        raise BadValue(f"{show_size(amount)} is too small for a disk", "the minimum is 1 MiB")
    return amount + (-amount % 512)


def duration(value: object) -> float:
    """Seconds from "30 s", "2 min", "500 ms", "7 days"."""
    match = _NUMBER_UNIT.match(value) if isinstance(value, str) else None
    if not match:
        shown = value if isinstance(value, int | float) else 30
        raise BadValue(f"{value!r} is not a duration", f'write a number and a unit: "{shown} s", "2 min"')
    number, unit = match.groups()
    factor = _TIME_UNITS.get(unit.lower())
    if factor is None:
        why = f"has the unknown unit {unit}" if unit else "has no unit"
        raise BadValue(f"{value!r} {why}", f'units are ms, s, min, h, days: "{number} s"')
    seconds = float(number) * factor
    if seconds > YEAR_S:
        raise BadValue(f"{value!r} is longer than a year", 'write a shorter duration: "2 min"')
    return seconds


def show_size(amount: int) -> str:
    """Bytes in the largest unit that keeps the number short: 1.5 GiB, 512 MiB."""
    for factor, unit in ((TIB, "TiB"), (GIB, "GiB"), (MIB, "MiB"), (KIB, "KiB")):
        if amount >= factor:
            number = amount / factor
            return f"{number:.0f} {unit}" if number >= 100 or number == int(number) else f"{number:.1f} {unit}"
    return f"{amount} B"


def exact_size(amount: int) -> str:
    """Bytes as `size` reads them back without loss: 1.5 GiB, but 1280 MiB instead of 1.2 GiB. For disk sizes, which
    users type again."""
    shown = show_size(amount)
    if size(shown) == amount:
        return shown
    return next(f"{amount // f} {u}" for f, u in ((GIB, "GiB"), (MIB, "MiB"), (KIB, "KiB"), (1, "B")) if not amount % f)


def show_duration(seconds: float) -> str:
    """Seconds in a readable unit: 4 s, 12 min, 3 h, 5 d."""
    if seconds < 1:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 10:
        return f"{seconds:.1f} s".replace(".0 s", " s")
    for limit, factor, unit in ((90, 1, "s"), (5400, 60, "min"), (129600, 3600, "h")):
        if seconds < limit:
            return f"{seconds / factor:.0f} {unit}"
    return f"{seconds / 86400:.0f} d"
