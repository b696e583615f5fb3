"""A disk that is there whole or not at all, also where a file system has no hard links."""

from __future__ import annotations

import errno
import os
from pathlib import Path

import pytest

from dacha.hypervisor.images.whole import whole


@pytest.mark.parametrize("links", [True, False])
def test_a_file_appears_whole_and_the_first_one_stays(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, links: bool
) -> None:
    def refused(source: object, target: object) -> None:
        raise OSError(errno.EPERM, "Operation not permitted")

    if not links:
        monkeypatch.setattr(os, "link", refused)
    for content in (b"first", b"second"):
        with whole(tmp_path / "disk") as part:
            part.write_bytes(content)
    assert (tmp_path / "disk").read_bytes() == b"first" and (tmp_path / "disk").stat().st_mode & 0o777 == 0o600
    with pytest.raises(ValueError, match="half-way"), whole(tmp_path / "other") as part:
        part.write_bytes(b"half")
        raise ValueError("half-way")
    assert [p.name for p in tmp_path.iterdir()] == ["disk"]
