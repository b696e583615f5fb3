"""A host of its own for each oddity."""

from tests.networks.conftest import hosted, world

__all__ = ["hosted", "world"]
