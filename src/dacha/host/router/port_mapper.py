"""The common interface of the router protocols."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from dacha.core.named import NamedTuple
from dacha.core.router.mapping import Mapping, MappingRequest


class Seen(NamedTuple):
    """A router that responds: its outside address ("" if it reports that only with a mapping), since when it keeps its
    mappings (seconds; 0 if unknown)."""

    address: str
    epoch_s: int


class Granted(NamedTuple):
    """A granted mapping: outside port and address, lifetime (seconds), and its identification."""

    outside_port: int
    address: str
    lifetime_s: int
    epoch_s: int
    nonce: str


Place = tuple[str, int]


class PortMapper(Protocol):
    """One router protocol. Each request raises AnswerNo with the reason if it is refused. `lookup` returns the targets
    of outside ports as the router reports them, None for no mapping; None altogether if the protocol has no such
    request, like PCP and NAT-PMP."""

    name: str

    def look(self) -> Seen: ...
    def map(self, wanted: MappingRequest, known: Mapping | None, lifetime_s: int) -> Granted: ...
    def unmap(self, mapping: Mapping) -> None: ...
    def lookup(self, mappings: Sequence[Mapping]) -> list[Place | None] | None: ...
