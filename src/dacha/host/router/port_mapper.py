"""What every way of speaking to a router has in common: its questions, and what comes of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from dacha.core.named import NamedTuple
from dacha.core.router.mapping import Mapping, MappingRequest


class Seen(NamedTuple):
    """A router that answers: its outside address ("" where it is told with a mapping only), since when it keeps its
    mappings (seconds; 0 where that is not said)."""

    address: str
    epoch_s: int


class Granted(NamedTuple):
    """A mapping as granted: the outside port and address, how long it stands (seconds), and what it is known by."""

    outside_port: int
    address: str
    lifetime_s: int
    epoch_s: int
    nonce: str


Place = tuple[str, int]


class PortMapper(Protocol):
    """One way of speaking to a router. Each question raises AnswerNo with its reason when the answer is no.

    `lookup` says where the router itself says that outside ports lead, None for nowhere; where it cannot be asked that,
    which PCP and NAT-PMP have no message for, None for all.
    """

    name: str

    def look(self) -> Seen: ...
    def map(self, wanted: MappingRequest, known: Mapping | None, lifetime_s: int) -> Granted: ...
    def unmap(self, mapping: Mapping) -> None: ...
    def lookup(self, mappings: Sequence[Mapping]) -> list[Place | None] | None: ...
