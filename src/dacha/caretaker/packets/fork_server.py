"""The process that packet workers are forked from: it has loaded everything that they need.

So a worker starts within milliseconds after the former one's end, even on a busy machine. This process runs as the
workers' user without capabilities, and reads only the root part's requests. It answers with the new process's pidfd
(pidfd_open(2)), which identifies that process unambiguously.
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
    """Fork workers and relays until the root part exits. Returns in each of them, with its role and descriptors, and
    finally None here."""
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
        # No other process waits for it: its id stays valid until the next round.
        process = os.pidfd_open(pid)
        socket.send_fds(asked, [str(pid).encode()], [process])
        os.close(process)


def _load_everything() -> None:
    """Import everything that is otherwise imported on first use: later, no files are accessible."""
    import importlib
    import pkgutil

    import dns.rdtypes.ANY
    import dns.rdtypes.IN

    for package in (dns.rdtypes.ANY, dns.rdtypes.IN):
        for module in pkgutil.iter_modules(package.__path__):
            importlib.import_module(f"{package.__name__}.{module.name}")


def main() -> None:
    """Serve requests on the channel whose descriptor is in the arguments, as the user whose IDs follow it."""
    asked = socket.socket(fileno=int(sys.argv[1]))
    _load_everything()
    if sys.argv[2] != "-":
        confine.become((int(sys.argv[2]), int(sys.argv[3])))
    gc.freeze()  # loaded objects are never collected, and so shared between processes
    # A large lab has more links than the default limit of descriptors.
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
    # The channel is full only while the root part is busy: wait.
    other.setblocking(True)
    frames = socket.socket(fileno=descriptors[2])
    os.dup2(descriptors[3], sys.stderr.fileno())
    os.close(descriptors[3])
    confine.shut_in(connect=(53,))
    asyncio.run(Worker(orders, other, frames).run())


if __name__ == "__main__":
    main()
