"""Whether a lab's guests are confined now: what its networks need in the kernel for that, and what is missing."""

from __future__ import annotations

from dacha.core.named import NamedTuple

REMEDY = "dacha apply"


class Confinement(NamedTuple):
    """What was seen of the rules and filters of the lab's own networks.

    `guests` are those that run on them. `missing` are tables that are not there, as nft names them; `unfiltered` are
    links without the filter that closes them while rules are missing; `changed` is true if the rules are not as loaded.
    """

    networks: tuple[str, ...]
    guests: tuple[str, ...]
    missing: tuple[str, ...] = ()
    unfiltered: tuple[str, ...] = ()
    changed: bool = False

    @property
    def sound(self) -> bool:
        return not (self.missing or self.unfiltered or self.changed)

    @property
    def open(self) -> bool:
        """True if guests may reach what the lab does not allow them."""
        return bool(self.missing and self.unfiltered) or (self.changed and not self.missing)

    def what(self) -> str:
        """What is the matter; empty if nothing is."""
        tables = " and ".join(self.missing)
        links = ", ".join(self.unfiltered)
        if self.missing and self.unfiltered:
            return f"the lab's firewall rules are missing ({tables}), and the drop filter of {links} too"
        if self.missing:
            return f"the lab's firewall rules are missing ({tables})"
        if self.changed:
            return "the lab's firewall rules in the kernel were changed since they were loaded"
        return f"the drop filter of {links} is missing" if self.unfiltered else ""

    def means(self) -> str:
        """What follows from it for these guests."""
        guests, networks = ", ".join(self.guests), ", ".join(self.networks)
        if self.missing and self.unfiltered:
            return f"{guests}: not confined; these guests can reach this host and its other networks"
        if self.missing:
            return f"network {networks} carries no traffic until they are loaded again"
        if self.changed:
            return f"{guests}: possibly not confined as the lab file says"
        return f"network {networks} would stay open if another program removed the firewall rules"
