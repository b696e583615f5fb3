"""Where the kernel led a connection: its own record of it."""

from __future__ import annotations

_RECORDS = "/proc/net/nf_conntrack"


def led_to(protocol: str, source_port: int, port: int) -> tuple[str, int] | None:
    """Who answers a connection of this host, as the kernel has it (nf_conntrack): address and port. None where it keeps
    no record of it, or shows none."""
    try:
        with open(_RECORDS) as f:
            rows = [line.split() for line in f if f"sport={source_port} dport={port} " in line]
    except OSError:
        return None
    for row in rows:
        if protocol not in row:
            continue
        # First what was sent, then what is expected back.
        sources = [word[4:] for word in row if word.startswith("src=")]
        ports = [word[6:] for word in row if word.startswith("sport=")]
        if len(sources) == len(ports) == 2:
            return sources[1], int(ports[1])
    return None
