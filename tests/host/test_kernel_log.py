"""What the kernel's log says of a process that is gone."""

from __future__ import annotations

import pytest

from dacha.host.log.kernel_log import killed_for_memory, read_log

# As Linux 6.1 has logged it.
LOG = [
    "Memory cgroup out of memory: Killed process 6649 (qemu-system-x86) total-vm:221356kB, anon-rss:20224kB, UID:0",
    "Out of memory: Killed process 66491 (qemu-system-x86) total-vm:1244kB, anon-rss:212kB, UID:1990000000",
    "oom_reaper: reaped process 66491 (qemu-system-x86), now anon-rss:0kB, file-rss:0kB, shmem-rss:0kB",
]


@pytest.mark.parametrize(
    ("pid", "why"),
    [(6649, "it reached its memory limit"), (66491, "this host was out of memory"), (664, None), (6491, None)],
)
def test_a_process_that_was_killed_for_its_memory_is_told_from_others(pid: int, why: str | None) -> None:
    assert killed_for_memory(LOG, pid) == why


def test_the_log_of_this_host_is_read_to_its_end() -> None:
    texts = read_log()
    assert texts and not any(text.startswith("6,") or "\n" in text for text in texts)
