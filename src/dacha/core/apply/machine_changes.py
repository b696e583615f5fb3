"""The differences between two machines, in words; and those that need no other machine: addresses that are changed
while a guest runs."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import ip_address, ip_network
from typing import Any, cast

from dacha.core.apply.machine import Machine
from dacha.core.inside.readdress import Move
from dacha.core.units import MIB, show_size

_WORDS = {
    "cpus": "CPUs",
    "memory_mib": "memory",
    "boot": "direct boot",
    "seed": "first-boot data",
    "secure_boot": "Secure Boot",
    "tpm": "TPM",
    "boot_order": "boot order",
    "pxe": "PXE by IP",
    "machine_type": "machine type",
    "usb": "a USB controller",
}
# What a guest's machine has of its first-boot data.
SEEDS = ("seed", "seed_without_keys", "seed_without_setup")
BARE = "seed_without_addresses"
# Changed while the guest runs, each by a change of its own.
_LIVE = ("screen", "disks", "seed_without_keys", "seed_without_setup", "seed_without_addresses")


def same_first_boot(had: Machine, wanted: Machine) -> bool:
    """True if the first-boot data differ in nothing, or only in what is changed while a guest runs."""
    keys, setup = "seed_without_keys", "seed_without_setup"
    if had.get(keys) == wanted.get(keys):
        return True
    return had.get(setup) == wanted.get(setup) is not None


def changed(before: Machine, after: Machine) -> list[tuple[str, str]]:
    """The differences between two machines: the key of each, and a line such as "memory 512 MiB → 1 GiB"."""
    found: list[tuple[str, str]] = []
    had = dict(before)
    for key, new in cast(dict[str, Any], after).items():
        old: Any = had.get(key)
        if old == new or key in _LIVE or (key == "machine_type" and not (old and new)):
            continue
        if key == "seed" and new and same_first_boot(before, after):
            continue  # A difference of the keys or the setup alone: they are changed in the running guest.
        word = _WORDS.get(key, key)
        if key == "memory_mib":
            found.append((key, f"{word} {show_size((old or 0) * MIB)} → {show_size(new * MIB)}"))
        elif key == "adapters":
            found += [(key, line) for line in _changed_adapters(old or [], new)]
        elif key == "shares":
            names = [", ".join(s["name"] for s in shares) or "none" for shares in (old or [], new)]
            found.append((key, "shared folders " + (" → ".join(names) if names[0] != names[1] else names[0])))
        elif key == "drives":
            # Media are changed live; a different number of drives needs a restart.
            if old is not None and len(old) != len(new):
                found.append((key, f"drives {len(old)} → {len(new)}"))
        elif isinstance(new, bool) and isinstance(old, bool):
            found.append((key, f"{word} {'on' if new else 'off'}"))
        elif isinstance(new, list) and isinstance(old, list):
            found.append((key, f"{word} {', '.join(map(str, old))} → {', '.join(map(str, new))}"))
        elif isinstance(new, str | int) and isinstance(old, str | int) and key != "seed":
            found.append((key, f"{word} {old} → {new}"))
        else:
            found.append((key, word))
    return found


def _changed_adapters(old: list[dict[str, Any]], new: list[dict[str, Any]]) -> list[str]:
    if len(old) != len(new):
        return [f"adapters {len(old)} → {len(new)}"]
    lines = []
    for before, after in zip(old, new, strict=True):
        for key in {**before, **after}:
            if before.get(key) != after.get(key):
                lines.append(f"{key.replace('_', ' ')} {_said(before.get(key))} → {_said(after.get(key))}")
    return lines


def _said(value: object) -> str:
    """A value of an adapter, in words."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(_said, value)) or "none"
    return "none" if value is None else str(value)


def moves(had: Machine, wanted: Machine) -> list[Move]:
    """The adapters that only have other addresses, in the same subnets; none if the adapters differ in anything else,
    or first-boot data in more than addresses, keys and the setup."""
    if len(had["adapters"]) != len(wanted["adapters"]) or had.get(BARE) != wanted.get(BARE):
        return []
    if had["seed"] and not had.get(BARE):
        return []  # it was started by a version that does not record this
    found = []
    for old, new in zip(had["adapters"], wanted["adapters"], strict=True):
        if {**old, "address": new["address"], "address6": new["address6"]} != new:
            return []
        for before, after, subnet in (
            (old["address"], new["address"], new["subnet"]),
            (old["address6"], new["address6"], new["subnet6"]),
        ):
            if before == after:
                continue
            if not (before and after and subnet) or ip_address(before) not in ip_network(subnet):
                return []
            prefix = ip_network(subnet).prefixlen
            found.append(Move(old["hardware_address"], ip_address(before), ip_address(after), prefix))
    return found


def moved(had: Machine, wanted: Machine, made: Sequence[Move]) -> Machine:
    """The guest's machine with these addresses changed, and with the first-boot data that have them."""
    after = {(m.hardware_address, m.after.version): str(m.after) for m in made}
    adapters = [
        {
            **a,
            "address": after.get((a["hardware_address"], 4), a["address"]),
            "address6": after.get((a["hardware_address"], 6), a["address6"]),
        }
        for a in had["adapters"]
    ]
    seeds = {key: wanted.get(key) for key in SEEDS} if made else {}
    return cast(Machine, {**had, "adapters": adapters, **seeds})
