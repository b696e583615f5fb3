"""Small ISO 9660 images with Joliet and Rock Ridge names, created in memory."""

from __future__ import annotations

from collections.abc import Mapping
from io import BytesIO


def iso_image(label: str, files: Mapping[str, bytes]) -> bytes:
    """An image (ECMA-119) labelled `label` with `files` in its root. Either extension alone would carry the names; both
    are written because readers prefer different ones."""
    import pycdlib

    iso = pycdlib.PyCdlib()  # type: ignore[attr-defined]  # untyped package
    iso.new(interchange_level=3, vol_ident=label, joliet=3, rock_ridge="1.09")
    for n, (name, content) in enumerate(sorted(files.items())):
        iso.add_fp(BytesIO(content), len(content), f"/FILE{n}.;1", rr_name=name, joliet_path=f"/{name}")
    out = BytesIO()
    iso.write_fp(out)
    iso.close()
    return out.getvalue()
