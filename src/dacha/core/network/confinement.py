"""Whether a lab's guests are confined now: which of the required kernel rules and filters are missing."""

from __future__ import annotations

from dacha.core.named import NamedTuple

REMEDY = "dacha apply"


class Confinement(NamedTuple):
    """The observed rules and filters of the lab's networks. `guests` are those that run on them; `missing` are missing
    tables, as nft names them; `unfiltered` are links without the filter that blocks them while rules are missing;
    `changed` is true if the rules differ from those that were loaded."""

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
        """True if guests may reach more than the lab allows."""
        return bool(self.missing and self.unfiltered) or (self.changed and not self.missing)

    def what(self) -> str:
        """The problem; empty if there is none."""
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
        """Its consequence for these guests."""
        guests = ", ".join(self.guests)
        several = len(self.networks) > 1
        networks = f"network{'s' * several} {', '.join(self.networks)}"
        if self.missing and self.unfiltered:
            return f"{guests}: not confined; these guests can reach this host and its other networks"
        if self.missing:
            return f"{networks} {'carry' if several else 'carries'} no traffic until they are loaded again"
        if self.changed:
            return f"{guests}: possibly not confined as the lab file says"
        return f"{networks} would stay open if another program removed the firewall rules"
