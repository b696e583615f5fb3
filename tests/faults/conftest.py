"""A lab on a host of its own, as tests of networks have it."""

from __future__ import annotations

from tests.networks.conftest import hosted, world

__all__ = ["hosted", "world"]
