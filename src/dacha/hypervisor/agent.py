"""The guest agent: a program inside a guest that answers over its own channel (QEMU documentation: interop/qemu-ga).

Not every guest has one; every question here has a time limit and an honest "no answer".
"""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

from dacha.host.unix_socket import connect


def addresses(run: Path, timeout_s: float = 1.0) -> list[tuple[str, str]] | None:
    """The addresses that the guest itself says it has: (hardware address, "ADDRESS/PREFIX"), without loopback; None
    when no agent answers."""
    told = ask(run, "guest-network-get-interfaces", timeout_s)
    if not isinstance(told, list):
        return None
    found = []
    for link in told:
        for a in link.get("ip-addresses", ()):
            if link.get("name") != "lo" and "ip-address" in a:
                found.append((link.get("hardware-address", ""), f"{a['ip-address']}/{a.get('prefix')}"))
    return found


def ask(run: Path, command: str, timeout_s: float = 1.0) -> Any | None:
    """The answer to one agent command, or None when no agent answers in time.

    The reply is told from older ones by `guest-sync-delimited`, whose answer follows a 0xFF byte.
    """
    token = time.monotonic_ns() & 0x7FFFFFFF
    deadline = time.monotonic() + timeout_s
    try:
        with connect(run / "agent", timeout_s) as s:
            sync = {"execute": "guest-sync-delimited", "arguments": {"id": token}}
            s.sendall(b"\xff" + json.dumps(sync).encode() + b"\n")
            if _answer(s, deadline, after=b"\xff") != token:
                return None
            s.sendall(json.dumps({"execute": command}).encode() + b"\n")
            return _answer(s, deadline)
    except (OSError, ValueError, KeyError):
        return None


def _answer(s: Any, deadline: float, after: bytes = b"") -> Any:
    buffer = b""
    while True:
        rest = buffer.partition(after)[2] if after else buffer
        if b"\n" in rest:
            return json.loads(rest.partition(b"\n")[0])["return"]
        s.settimeout(max(0.001, deadline - time.monotonic()))
        chunk = s.recv(65536)
        if not chunk:
            raise ValueError("the agent's channel closed")
        buffer += chunk
