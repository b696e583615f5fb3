"""Remove values from the lab file: their defaults apply again, or new choices."""

from __future__ import annotations

from collections.abc import Iterable

import tomli

from dacha.core.errors import UsageError
from dacha.core.findings import Path
from dacha.core.lab.text.edits import Edit, Remove
from dacha.core.spelling import did_you_mean
from dacha.engine.workspace import Workspace


def unset_edits(ws: Workspace, table: Path, keys: Iterable[str]) -> list[Edit]:
    """The edits that remove `keys` (of inner tables with a dot: "start.order") from the table at `table`. Raises
    UsageError for a key that is not written there."""
    edits: list[Edit] = []
    for key in keys:
        path = tuple(key.split("."))
        within = tomli.loads(ws.text)
        for step in (*table, *path[:-1]):
            within = within.get(str(step), {}) if isinstance(within, dict) else {}
        if not isinstance(within, dict) or path[-1] not in within:
            written = [str(k) for k in within] if isinstance(within, dict) else []
            raise UsageError(
                f"{' '.join(map(str, table))} has no {key} to unset",
                where=ws.path.name,
                remedy=did_you_mean(path[-1], written, f"written there: {', '.join(written) or 'nothing'}"),
            )
        edits.append(Remove((*table, *path)))
    return edits
