"""The media store that a command works on."""

from __future__ import annotations

import argparse
from typing import Any

from dacha.core.errors import UsageError


def store_of(args: argparse.Namespace) -> tuple[Any, Any]:
    """The store, and the workspace if there is a lab: media can be stored without one."""
    from dacha.engine.media.media_store import Store
    from dacha.engine.workspace import load

    try:
        ws = load(args.lab)
    except UsageError:
        if args.lab:
            raise
        ws = None
    return Store(ws.lab if ws else None), ws
