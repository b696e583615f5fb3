"""A lab on a host of its own."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import boot_lines, stop_everything
from tests.networks.world import HostedLab, World


@pytest.fixture
def world() -> Iterator[World]:
    made = World()
    yield made
    made.close()


@pytest.fixture
def hosted(world: World, tmp_path: Path, image: Any, key_files: Path) -> Iterator[HostedLab]:
    """A lab that can boot real guests on the world's host; `@BOOT@` stands for what each of them needs."""
    run = Path(tempfile.mkdtemp(prefix="dacha-test-"))
    (tmp_path / "home").mkdir()
    lab = HostedLab(tmp_path, run, world)
    for name in ("id", "id.pub"):
        shutil.copy(key_files / name, tmp_path / name)
    boot_lines(lab, image)
    yield lab
    stop_everything(lab)
    shutil.rmtree(run, ignore_errors=True)
