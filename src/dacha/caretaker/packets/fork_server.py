"""Where packet workers come from: a process that has loaded all that one needs, and is copied for each.

So a worker is there within milliseconds of the last one's end, on a busy machine too. This process has the workers'
user and no capability by then, and reads nothing but the root part's word to make another one. What it answers is that
one's pidfd (pidfd_open(2)), which stands for it and for no later process of its number.
"""

from __future__ import annotations

import asyncio
import contextlib
import gc
import os
import socket
import sys

from dacha.caretaker.messages import START
from dacha.caretaker.packets.worker import Worker
from dacha.host import confine


def next_worker(asked: socket.socket) -> list[int] | None:
    """Make workers until the root part ends. Returns in each worker, with its descriptors, and then None here."""
    while True:
        word, descriptors, _, _ = socket.recv_fds(asked, len(START) + 1, 3)
        if word != START:
            return None
        with contextlib.suppress(ChildProcessError):
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass
        pid = os.fork()
        if pid == 0:
            asked.close()
            return descriptors
        for descriptor in descriptors:
            os.close(descriptor)
        # Nobody else waits for it: its number is its own until the next round.
        process = os.pidfd_open(pid)
        socket.send_fds(asked, [str(pid).encode()], [process])
        os.close(process)


def _load_everything() -> None:
    """Import what is else imported when it is first needed: later there are no files."""
    import importlib
    import pkgutil

    import dns.rdtypes.ANY
    import dns.rdtypes.IN

    for package in (dns.rdtypes.ANY, dns.rdtypes.IN):
        for module in pkgutil.iter_modules(package.__path__):
            importlib.import_module(f"{package.__name__}.{module.name}")


def main() -> None:
    """Make workers by the channel whose descriptor is in the arguments, as the user whose numbers come after it."""
    asked = socket.socket(fileno=int(sys.argv[1]))
    _load_everything()
    if sys.argv[2] != "-":
        confine.become((int(sys.argv[2]), int(sys.argv[3])))
    gc.freeze()  # what is loaded is there for good, and shared as long as nobody touches it
    descriptors = next_worker(asked)
    if descriptors is None:
        return
    confine.end_with_parent()
    orders, told = (socket.socket(fileno=n) for n in descriptors[:2])
    # Full is this one only when the root part is busy: it is waited for.
    told.setblocking(True)
    os.dup2(descriptors[2], sys.stderr.fileno())
    os.close(descriptors[2])
    confine.shut_in(connect=(53,))
    asyncio.run(Worker(orders, told).run())


if __name__ == "__main__":
    main()
