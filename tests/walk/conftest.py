from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import Lab, stop_everything
from tests.walk.world import World


@pytest.fixture
def world(lab: Lab, tmp_path: Path) -> Iterator[World]:
    place = tmp_path / "lab"
    place.mkdir()
    lab.folder, lab.file = place, place / "lab.toml"
    lab.env |= {"HOME": str(place / "home"), "DACHA_STATE": str(place / "state")}
    (place / "home").mkdir()
    yield World(lab)
    stop_everything(lab)
