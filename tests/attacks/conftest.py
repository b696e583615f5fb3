"""One field for all attacks on networks: its guests need not be started for each."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.attacks.field import Field


@pytest.fixture(scope="package")
def field(image: Any, key_files: Path) -> Iterator[Field]:
    made = Field(image, key_files)
    yield made
    made.close()


from tests.networks.conftest import hosted, world  # noqa: E402, F401
