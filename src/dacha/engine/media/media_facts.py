"""What a medium is, its name, and its expected checksum."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.formats.medium import Medium, is_iso, looks_like_web_page


def inspect(path: Path) -> dict[str, Any]:
    """What a file is, as plain data: an ISO medium, a disk image, or neither (then with the problem)."""
    from dacha.formats.disk.boot_sectors import boot_sectors
    from dacha.hypervisor.images import images
    from dacha.hypervisor.images.read_medium import inspect_medium

    with path.open("rb") as f:
        head = f.read(4096)
        if looks_like_web_page(head):
            return {"kind": "unknown", "problems": ["it is a web page, not a disk image"]}
        iso = is_iso(f)
    if iso:
        return medium_data(inspect_medium(path))
    try:
        below = images.header(path).backing
        if below:
            return {"kind": "unknown", "problems": [f"it is an overlay of {below}, which is not part of it"]}
        image = images.inspect(path)
    except HostError as e:
        return {"kind": "unknown", "problems": [e.why or e.what]}
    problem = images.damage(image)
    sectors = boot_sectors(images.first_sectors(image))
    problems = [problem] if problem else []
    return {
        "kind": "disk",
        "format": image.format,
        "virtual_size": image.size,
        "table": sectors.table,
        "bios": sectors.bios,
        "uefi": sectors.uefi,
        "problems": problems,
    }


def medium_data(medium: Medium) -> dict[str, Any]:
    return medium._asdict() | {"problems": list(medium.problems), "editions": [list(e) for e in medium.editions]}


def short_name(source: str) -> str:
    """A short name from a file name or URL: debian-12.5.0-amd64-netinst.iso is debian-12-5-0-amd64-netinst."""
    stem = re.sub(r"\.(iso|img|qcow2|raw|vmdk|vdi|vhdx)$", "", source.rstrip("/").rpartition("/")[2].lower())
    return re.sub(r"[^a-z0-9]+", "-", stem).strip("-")[:40].strip("-") or "medium"


def _sums(text: str) -> Iterator[tuple[str, str]]:
    """Each file name and SHA-256 in a checksum file, in either usual format."""
    for line in text.splitlines():
        gnu = re.match(r"([0-9a-fA-F]{64})\s+[ *]?(\S.*)$", line.strip())
        bsd = re.match(r"SHA256 \((.+)\) = ([0-9a-fA-F]{64})$", line.strip())
        name, value = (gnu[2], gnu[1]) if gnu else (bsd[1], bsd[2]) if bsd else ("", "")
        if name:
            yield name.rpartition("/")[2], value.lower()


def names_in_sums(text: str) -> list[str]:
    """The file names in a checksum file."""
    return [name for name, _ in _sums(text)]


def expected_sum(text: str, file_name: str) -> str | None:
    """The SHA-256 of `file_name` in a checksum file, in either usual format; None if it has none."""
    for name, value in _sums(text):
        if name == file_name:
            return value
    alone = re.fullmatch(r"\s*([0-9a-fA-F]{64})\s*", text)
    return alone[1].lower() if alone else None
