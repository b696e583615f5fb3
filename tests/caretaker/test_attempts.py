"""What the caretaker tries again and again: a failure is a line, whatever it is, and who is told to stop stops."""

from __future__ import annotations

import asyncio

import pytest

from dacha.core.errors import HostError
from dacha.engine.caretaker.attempts import attempt


def test_what_fails_is_said_and_no_reason_to_end() -> None:
    lines: list[str] = []
    with attempt(lines.append, "cannot update the doors yet") as works:
        pass
    assert not works.failed and lines == []
    with attempt(lines.append, "cannot update the doors yet") as refused:
        raise HostError("nft refuses the rules", why="no such table", remedy="dacha apply")
    with attempt(lines.append, "cannot update the doors yet") as defect:
        raise RuntimeError("can't start new thread")
    assert refused.failed and defect.failed
    first, second = lines
    assert first.startswith("cannot update the doors yet: nft refuses the rules / ") and "dacha apply" in first
    assert second.startswith("cannot update the doors yet: RuntimeError: can't start new thread (line ")
    assert second.endswith("test_attempts.py)")
    with pytest.raises(asyncio.CancelledError), attempt(lines.append, "it ends"):
        raise asyncio.CancelledError
    assert len(lines) == 2
