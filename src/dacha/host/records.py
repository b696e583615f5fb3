"""Records: JSON objects in files, with a version. Older ones are read, newer ones refused with a message."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.host.files import replace_file

# Exceptions of reading a record whose values are not what they should be: it is treated as damaged.
DAMAGED = (AttributeError, KeyError, OverflowError, TypeError, ValueError)


def parse(text: str | bytes) -> Any:
    """The value of a JSON text (RFC 8259). Raises ValueError for an invalid or absurdly nested one."""
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError("nesting is too deep") from None


def read_record(path: Path, version: int, bare: str | None = None) -> dict[str, Any]:
    """The contents of a record; empty if it is missing or damaged: it can be created again. With `bare`, a list without
    an object, as an older version wrote it, becomes the member of that name. A record without a version is from before
    there were any. Raises HostError for one of a newer version."""
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
    """Replace a record atomically. Raises HostError."""
    replace_file(path, json.dumps({"version": version, **value}, indent=1), mode)
