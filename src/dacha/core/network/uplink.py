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


class Cut(NamedTuple):
    """A disconnected LAN: the `kind`, and the links concerned."""

    kind: CutKind
    links: tuple[str, ...]

    @property
    def what(self) -> str:
        """The state in words, such as "eth0 has no carrier"."""
        one = len(self.links) == 1
        names = " and ".join(self.links)
        return {
            NO_CARRIER: f"{names} {'has' if one else 'have'} no carrier",
            DOWN: f"{names} {'is' if one else 'are'} down",
            NO_PORT: f"{names} has no port that leads to a LAN",
            BLOCKED: f"{names} {'does' if one else 'do'} not forward, by the bridge's spanning tree (STP)",
            ISOLATED: f"{names} are isolated ports of their bridge",
            NO_ARP: f"ARP is switched off on {names}",
        }[self.kind]

    @property
    def means(self) -> str:
        """What follows, or the cause."""
        return {
            NO_CARRIER: "its cable is unplugged, the other end is off, or it is not in a wireless network",
            DOWN: "it was switched off on this host",
            NO_PORT: "its ports are those of guests only: this host's adapter was removed from it",
            BLOCKED: "it waits for the end of its forward delay, or another bridge makes a loop",
            ISOLATED: "isolated ports exchange no traffic",
            NO_ARP: "machines on the LAN cannot find this host's hardware address",
        }[self.kind]

    @property
    def remedy(self) -> str:
        first = self.links[0]
        return {
            NO_CARRIER: "check its cable, and: ip address",
            DOWN: f"ip link set {first} up",
            NO_PORT: f"ip link set ADAPTER master {first}",
            BLOCKED: f"bridge -d link show dev {first}",
            ISOLATED: f"bridge link set dev {first} isolated off",
            NO_ARP: f"ip link set {first} arp on",
        }[self.kind]
