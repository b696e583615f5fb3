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
import resource
import socket
import sys

from dacha.caretaker.packets.messages import RELAY, START
from dacha.caretaker.packets.relay import Relay
from dacha.caretaker.packets.worker import Worker
from dacha.host import confine


def next_worker(asked: socket.socket) -> tuple[bytes, list[int]] | None:
    """Make workers and relays until the root part ends. Returns in each of them, with what it is and its descriptors,
    and then None here."""
    while True:
        word, descriptors, _, _ = socket.recv_fds(asked, len(START) + 1, 4)
        if word not in (START, RELAY):
            return None
        with contextlib.suppress(ChildProcessError):
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass
        pid = os.fork()
        if pid == 0:
            asked.close()
            return word, descriptors
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
    # A large lab has more links than a process may have descriptors otherwise.
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))
    made = next_worker(asked)
    if made is None:
        return
    word, descriptors = made
    confine.end_with_parent()
    orders = socket.socket(fileno=descriptors[0])
    other = socket.socket(fileno=descriptors[1])
    confine.set_name("dacha-relay" if word == RELAY else "dacha-packets")
    if word == RELAY:
        confine.shut_in(calls=confine.RELAY_CALLS, addressless=True)
        Relay(orders, other).run()
        return
    # Full is this one only when the root part is busy: it is waited for.
    other.setblocking(True)
    frames = socket.socket(fileno=descriptors[2])
    os.dup2(descriptors[3], sys.stderr.fileno())
    os.close(descriptors[3])
    confine.shut_in(connect=(53,))
    asyncio.run(Worker(orders, other, frames).run())


if __name__ == "__main__":
    main()
