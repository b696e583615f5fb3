"""Media and images in the lab file: short names of the media store, or paths."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from dacha.engine.workspace import Workspace

if TYPE_CHECKING:
    from dacha.hypervisor.images.image_tool import Image


def medium_path(ws: Workspace, written: str) -> Path:
    """The file of a medium: a short name of the media store, or a path."""
    from dacha.engine.media.media_store import Store

    kept = None if "/" in written else Store(ws.lab).find(written)
    return kept.path if kept else ws.resolve(written)


def image_path(ws: Workspace, written: str) -> Path:
    """The image in a disk's `from`: a path, or a short name of the media store."""
    path = ws.resolve(written)
    return path if path.exists() else medium_path(ws, written)


def base_image(ws: Workspace, written: str) -> Image:
    """The image in a disk's `from`, examined: only media may be its backing images. Raises HostError."""
    from dacha.engine.media.media_store import Store
    from dacha.hypervisor.images import images

    return images.inspect(image_path(ws, written), Store(ws.lab).places())
