"""What disconnects this host, or a guest on a bridged LAN, from that LAN."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from typing import Literal

    CutKind = Literal["no carrier", "down", "no port", "blocked", "isolated", "no ARP"]

NO_CARRIER: CutKind = "no carrier"
DOWN: CutKind = "down"
NO_PORT: CutKind = "no port"
BLOCKED: CutKind = "blocked"
ISOLATED: CutKind = "isolated"
NO_ARP: CutKind = "no ARP"


# By kind: the state, what it means, and the remedy; of the `names` of the links, the `first` one, and a verb for them.
_WORDS: dict[CutKind, tuple[str, str, str]] = {
    NO_CARRIER: ("{names} {have} no carrier",
                 "its cable is unplugged, the other end is off, or it is not in a wireless network",
                 "check its cable, and: ip address"),
    DOWN: ("{names} {are} down", "it was switched off on this host", "ip link set {first} up"),
    NO_PORT: ("{names} has no port that leads to a LAN",
              "its ports are those of guests only: this host's adapter was removed from it",
              "ip link set ADAPTER master {first}"),
    BLOCKED: ("{names} {do} not forward, by the bridge's spanning tree (STP)",
              "it waits for the end of its forward delay, or another bridge makes a loop",
              "bridge -d link show dev {first}"),
    ISOLATED: ("{names} are isolated ports of their bridge", "isolated ports exchange no traffic",
               "bridge link set dev {first} isolated off"),
    NO_ARP: ("ARP is switched off on {names}", "machines on the LAN cannot find this host's hardware address",
             "ip link set {first} arp on"),
}  # fmt: skip


class Cut(NamedTuple):
    """A disconnected LAN: the `kind`, and the links concerned."""

    kind: CutKind
    links: tuple[str, ...]

    @property
    def what(self) -> str:
        """The state in words, such as "eth0 has no carrier"."""
        return self._said(0)

    @property
    def means(self) -> str:
        """What follows, or the cause."""
        return self._said(1)

    @property
    def remedy(self) -> str:
        """The command that ends or shows it."""
        return self._said(2)

    def _said(self, which: int) -> str:
        one = len(self.links) == 1
        verbs = {"have": "has", "are": "is", "do": "does"} if one else {"have": "have", "are": "are", "do": "do"}
        return _WORDS[self.kind][which].format(names=" and ".join(self.links), first=self.links[0], **verbs)
