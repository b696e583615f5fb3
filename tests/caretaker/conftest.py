"""The same hosts as for the networks."""

from tests.networks.conftest import hosted, world

__all__ = ["hosted", "world"]
