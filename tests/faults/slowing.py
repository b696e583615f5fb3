"""What makes a guest slow or mute: its processor held back, its agent's channel delayed, silent or closed."""

from __future__ import annotations

import base64
import contextlib
import os
import signal
import threading
from collections.abc import Iterator
from pathlib import Path

# In the guest, between its agent and the channel: what /run/relay says holds for the answers that come next. "slow N"
# delays each by N seconds, "mute N" holds all back for N seconds, "away N" closes the channel for as long, as if no
# agent ran.
RELAY = """\
import json, os, select, socket, subprocess, time
subprocess.run(["systemctl", "stop", "qemu-guest-agent"])
agent = subprocess.Popen(["qemu-ga", "-m", "unix-listen", "-p", "/run/relay.sock"])
while not os.path.exists("/run/relay.sock"):
    time.sleep(0.1)
inner = socket.socket(socket.AF_UNIX)
inner.connect("/run/relay.sock")
def opened():
    return os.open("/dev/virtio-ports/org.qemu.guest_agent.0", os.O_RDWR | os.O_NONBLOCK)
port, delay, quiet, held, part, free = opened(), 0.0, 0.0, [], b"", 0.0
while True:
    try:
        mode, value = open("/run/relay").read().split()
        os.remove("/run/relay")
        if mode == "away":
            while held:
                os.write(port, held.pop(0)[1])
            time.sleep(0.5)
            os.close(port)
            time.sleep(float(value))
            port = opened()
        elif mode == "mute":
            quiet = time.monotonic() + float(value)
        else:
            delay = float(value)
    except (OSError, ValueError):
        pass
    ready = select.select([port, inner], [], [], 0.1)[0]
    if port in ready:
        try:
            asked = os.read(port, 65536)
        except BlockingIOError:
            asked = b""
        inner.sendall(asked) if asked else time.sleep(0.05)
    if inner in ready:
        part += inner.recv(65536)
        *lines, part = part.split(b"\\n")
        for line in lines:
            free = max(free, time.monotonic()) + delay
            held.append((free, line + b"\\n"))
    while held and max(held[0][0], quiet) <= time.monotonic():
        data = held.pop(0)[1]
        while data:
            try:
                data = data[os.write(port, data):]
            except BlockingIOError:
                time.sleep(0.02)
"""


def begin_relay() -> str:
    """The command that starts the relay in a guest with systemd and Python; its agent comes back a moment later."""
    text = base64.b64encode(RELAY.encode()).decode()
    return f"echo {text} | base64 -d > /root/relay.py; systemd-run -q --on-active=1 python3 /root/relay.py"


@contextlib.contextmanager
def processor(pid: int, share: float) -> Iterator[None]:
    """Let a process run for this share of the time only, as on a machine that is busy with others."""
    done, period_s = threading.Event(), 0.06

    def hold() -> None:
        while not done.is_set():
            os.kill(pid, signal.SIGCONT)
            done.wait(period_s * share)
            os.kill(pid, signal.SIGSTOP)
            done.wait(period_s * (1 - share))

    thread = threading.Thread(target=hold)
    thread.start()
    try:
        yield
    finally:
        done.set()
        thread.join()
        os.kill(pid, signal.SIGCONT)


def process_of(run: Path) -> int:
    """The number of a guest's process, from its folder of sockets."""
    return int((run.parent / f"{run.name}.process").read_text())
