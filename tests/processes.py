"""Other processes in the tests: whether they are there, and how they are ended."""

from __future__ import annotations

import os
import signal
import time

from dacha.host.processes import identify


def there(pid: int | None) -> bool:
    """True for a process that has not ended, whether or not anybody has waited for it."""
    return pid is not None and identify(pid) is not None


def wait_until_gone(pid: int) -> None:
    """A process that was told to end is gone, on a busy machine after a while."""
    deadline = time.monotonic() + 60
    while there(pid):
        assert time.monotonic() < deadline, f"process {pid} is still there"
        time.sleep(0.02)


def kill(pid: int) -> None:
    """End a process that is no child of ours: it is gone, with its locks, when this comes back."""
    os.kill(pid, signal.SIGKILL)
    wait_until_gone(pid)
