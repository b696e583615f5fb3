"""What the caretaker saw on the wire: the address that each guest's adapter really uses, and when it was last seen."""

from __future__ import annotations

import json
from collections.abc import Mapping
from ipaddress import IPv4Address
from pathlib import Path
from typing import NamedTuple

from dacha.core.findings import WARNING, Finding
from dacha.core.plan import Plan
from dacha.engine.home import Home
from dacha.host.files import write_whole


class Sighting(NamedTuple):
    """An address in use; `at` is Unix seconds."""

    address: IPv4Address
    at: float


def sightings_file(home: Home) -> Path:
    return home.folder / "seen.json"


def write(file: Path, seen: Mapping[tuple[str, int], Sighting]) -> None:
    rows = [[guest, number, str(x.address), x.at] for (guest, number), x in seen.items()]
    write_whole(file, json.dumps(rows))


def read(home: Home) -> dict[tuple[str, int], Sighting]:
    """What was seen last, by guest and adapter; nothing where no caretaker has looked."""
    try:
        rows = json.loads(sightings_file(home).read_text())
        return {(guest, number): Sighting(IPv4Address(address), at) for guest, number, address, at in rows}
    except (OSError, ValueError, TypeError):
        return {}


def conflicts(plan: Plan, seen: Mapping[tuple[str, int], Sighting]) -> list[Finding]:
    """Guests that use another address than the planned one."""
    found = []
    for key, sighting in seen.items():
        adapter = plan.adapters.get(key)
        if adapter is None or adapter.address in (None, sighting.address):
            continue
        what = f"it uses {sighting.address} on {adapter.network}, and {adapter.address} is planned"
        remedy = (
            f"set {adapter.address} in the guest, or let it ask by DHCP; until then nothing of it is let through\n"
            f"or plan the other: dacha guest edit {adapter.guest} --address {adapter.network}={sighting.address}"
        )
        path = ("guest", adapter.guest, "adapter", adapter.number)
        found.append(Finding(WARNING, "other-address", f"guest {adapter.guest}", what, remedy, path, "host"))
    return found
