"""A port at an address, as one value."""

from __future__ import annotations

from dacha.core.named import NamedTuple


class Endpoint(NamedTuple):
    """A port at an address, or at a name. Its text has an IPv6 address in brackets (RFC 3986 section 3.2.2)."""

    address: str
    port: int

    def __str__(self) -> str:
        return f"[{self.address}]:{self.port}" if ":" in self.address else f"{self.address}:{self.port}"
