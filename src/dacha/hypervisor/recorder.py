"""The recorder: writes guests' console output into records of bounded size. One process for all guests that are started
together.

It runs as a script (`python recorder.py UID GID PIPE:FILE …`, open descriptors), imports nothing of Dacha, and changes
its user before it reads anything.
"""

from __future__ import annotations

import os
import select
import sys

# A record of twice this length is shortened to its last part, of this length.
MOST = 4 << 20
CHUNK = 64 << 10


def keep(file: int, data: bytes) -> None:
    """Append to a record, and shorten it if it is too long. If the disk is full, the guest loses its record and nothing
    else."""
    try:
        while data:
            data = data[os.write(file, data) :]
        size = os.lseek(file, 0, os.SEEK_END)
        if size > 2 * MOST:
            end = os.pread(file, MOST, size - MOST)
            # The descriptor always appends, whatever its offset (open(2)): so it is truncated first.
            os.ftruncate(file, 0)
            os.write(file, end)
    except OSError:
        pass


def record(pairs: dict[int, int]) -> None:
    """Copy until every guest has closed its end."""
    poll = select.poll()
    for pipe in pairs:
        poll.register(pipe, select.POLLIN)
    while pairs:
        for pipe, _ in poll.poll():
            try:
                data = os.read(pipe, CHUNK)
            except OSError:
                data = b""
            if data:
                keep(pairs[pipe], data)
            else:
                poll.unregister(pipe)
                os.close(pairs.pop(pipe))


def main() -> None:
    # A guest that floods its console waits here, and does not delay the others.
    os.nice(10)
    user, group, *words = sys.argv[1:]
    if int(user) != os.geteuid():
        os.setgroups([])
        os.setresgid(int(group), int(group), int(group))
        os.setresuid(int(user), int(user), int(user))
    record({int(a): int(b) for a, _, b in (word.partition(":") for word in words)})


if __name__ == "__main__":
    main()
