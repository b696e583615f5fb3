"""Records: JSON objects kept in files with their version. Older ones are read, newer ones refused with a word."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.host.files import replace_file

# What reading a record's values raises where they are not what is written there: it is taken as damaged.
DAMAGED = (AttributeError, KeyError, OverflowError, TypeError, ValueError)


def parse(text: str | bytes) -> Any:
    """What a JSON text says (RFC 8259). Raises ValueError for one that is none, or is nested beyond all use."""
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError("nesting is too deep") from None


def read_record(path: Path, version: int, bare: str | None = None) -> dict[str, Any]:
    """What a record holds; nothing where there is none, or a damaged one: it can be made again from what is seen. With
    `bare`, a list that stands alone, as an older version wrote it, is what has that name now.

    One without a version is of the time before there were any. Raises HostError for one of a newer version.
    """
    try:
        raw = parse(path.read_text())
    except (OSError, ValueError):
        return {}
    if isinstance(raw, list) and bare:
        return {bare: raw}
    if not isinstance(raw, dict):
        return {}
    written = raw.get("version", version)
    if not isinstance(written, int) or written > version:
        raise HostError(f"{path} was written by a newer dacha", remedy="use that newer version")
    return raw


def write_record(path: Path, version: int, value: Mapping[str, Any], mode: int = 0o644) -> None:
    """Replace a record, whole or not at all. Raises HostError."""
    replace_file(path, json.dumps({"version": version, **value}, indent=1), mode)
