"""`reach`, `status` and `trace` asked about one door at one moment: what one says the others may not deny."""

from __future__ import annotations

import time
from typing import Any

from tests.networks.world import HostedLab

# What trace calls broken although the door lets a client in: beyond entering, or somebody else's matter.
BEYOND_ENTERING = {"key", "login", "size", "sources", "neighbour", "security"}


def disagreement(lab: HostedLab, guest: str, door: str, traced: dict[str, Any]) -> str | None:
    """In which way the three disagree, and None when they do not. A host is in motion: another look may agree."""
    deadline, found = time.monotonic() + 20, None
    while True:
        found = _compare(lab, guest, door, traced)
        if found is None or time.monotonic() > deadline:
            return found
        traced = lab("trace", guest, door, "--json", code=None).json


def _compare(lab: HostedLab, guest: str, door: str, traced: dict[str, Any]) -> str | None:
    status = lab("status", "--json", code=None)
    broken = traced["broken"]
    row = next(d for g in status.json["guests"] if g["name"] == guest for d in g["doors"] if d["name"] == door)
    said = f"status: {row['answers']} {row['seen']!r}; trace: {broken}, {traced['hops'][-1]['seen']!r}"
    if row["answers"] is True and broken is not None and broken not in BEYOND_ENTERING:
        return said
    if row["answers"] is False and broken is None:
        return said
    if "cannot be determined" in row["seen"]:
        return None
    if row["answers"] is None and broken not in ("guest", "boot", "lan-address", *BEYOND_ENTERING):
        return said
    if traced["from"] == "outside" or broken == "lan-address" or "lab-file" in traced["warnings"]:
        return None
    cells = [r["from"] for r in lab("reach", guest, "--json").json["services"] if door in r["doors"]]
    ways = [(w["address"], w["port"]) for w in cells[0]["lan" if traced["from"] == "lan" else "host"]["ways"]]
    at, there = ((x["address"], x["port"]) for x in (traced, row))
    if at not in (ways or [(None, None)]):
        return f"reach: {ways}; trace: {at}"
    if traced["from"] == "lan" and ways and there not in ways:
        return f"reach: {ways}; status: {there}"
    return None
