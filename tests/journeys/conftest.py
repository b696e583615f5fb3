"""A journey: from nothing to its end by at most five commands and one edit of the lab file."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.conftest import Lab, Run
from tests.networks.conftest import hosted, world
from tests.networks.world import HostedLab

__all__ = ["hosted", "world"]
COMMANDS, EDITS = 5, 1


class Journey:
    """What a person types; looking at the result is not counted."""

    def __init__(self, lab: Lab, image: Any) -> None:
        self.lab = lab
        # What a demo guest needs in place of an image.
        self.boot = (
            "--kernel", str(image.kernel), "--initrd", str(image.initrd), "--command-line", image.command_line,
            "--memory", "128 MiB", "--user", "ops", "--key", "id.pub",
        )  # fmt: skip
        self.commands: list[str] = []
        self.edits = 0

    def __call__(self, *arguments: str, **options: Any) -> Run:
        self.commands.append(" ".join(arguments))
        return self.lab(*arguments, **options)

    def edit(self, more: str) -> None:
        """A text editor: lines at the end of the lab file."""
        self.edits += 1
        self.lab.file.write_text(self.lab.file.read_text() + more)


def _travelled(lab: Lab, image: Any) -> Iterator[Journey]:
    made = Journey(lab, image)
    yield made
    assert len(made.commands) <= COMMANDS and made.edits <= EDITS, made.commands


@pytest.fixture
def journey(guest_lab: Lab, image: Any) -> Iterator[Journey]:
    """On this host, with a user-mode network."""
    yield from _travelled(guest_lab, image)


@pytest.fixture
def abroad(hosted: HostedLab, image: Any) -> Iterator[Journey]:
    """On a host with a LAN, a router and an outside."""
    yield from _travelled(hosted, image)
