"""The target that the kernel forwarded a connection to, from its record."""

from __future__ import annotations

_RECORDS = "/proc/net/nf_conntrack"


def led_to(protocol: str, source_port: int, port: int) -> tuple[str, int] | None:
    """The machine that answers a connection of this host, by the kernel's record (nf_conntrack): address and port. None
    if there is no record, or it is not readable."""
    try:
        with open(_RECORDS) as f:
            rows = [line.split() for line in f if f"sport={source_port} dport={port} " in line]
    except OSError:
        return None
    for row in rows:
        if protocol not in row:
            continue
        # The original direction first, then the expected reply.
        sources = [word[4:] for word in row if word.startswith("src=")]
        ports = [word[6:] for word in row if word.startswith("sport=")]
        if len(sources) == len(ports) == 2:
            return sources[1], int(ports[1])
    return None
