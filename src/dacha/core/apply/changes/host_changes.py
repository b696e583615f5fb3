"""Changes of this host: links, rules, forwarding, the router, the caretaker."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.apply.changes.change import END, HOST, change
from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from dacha.core.network.firewall.openings import Opening
    from dacha.core.network.links import Link


@change("make-link", HOST)
class MakeLink(NamedTuple):
    """Create one of the lab's links, or repair it."""

    link: Link
    there: bool
    guest: str | None = None

    def __str__(self) -> str:
        return f"{'repair' if self.there else 'create'} {self._link()}"

    def done(self) -> str:
        return f"{'repaired' if self.there else 'created'} {self._link()}"

    def _link(self) -> str:
        # Imported late: most labs have no links, and every command computes changes.
        from dacha.core.network.links import BridgeLink, DirectLink, HostBridge, VlanLink

        link = self.link
        if isinstance(link, BridgeLink):
            return f"network {link.network} ({link.name}, {', '.join(link.addresses)})"
        if isinstance(link, HostBridge):
            return f"bridge {link.name} over {link.adapter}, with this host's addresses there"
        if isinstance(link, VlanLink):
            return f"VLAN {link.number} of {link.parent} ({link.name})"
        if isinstance(link, DirectLink):
            return f"{link.guest}'s adapter {link.adapter} on {link.parent} ({link.name})"
        return f"the tap of {link.guest}'s adapter {link.adapter} ({link.name})"


@change("remove-link", END)
class RemoveLink(NamedTuple):
    """Remove a link that the lab no longer needs."""

    name: str
    alias: str
    guest: str | None = None

    def __str__(self) -> str:
        return f"remove {self._link()}"

    def done(self) -> str:
        return f"removed {self._link()}"

    def _link(self) -> str:
        return f"{self.name} ({self.alias.split(':', 2)[-1].replace(':', ' ')})"


@change("load-rules", HOST)
class LoadRules(NamedTuple):
    """Replace the lab's rules in the kernel, atomically. `doors` is their number, `opened` and `closed` are those that
    change (guest and name); `unfiltered` are links without the filter that blocks them while rules are missing."""

    doors: int
    there: bool
    opened: tuple[tuple[str, str], ...] = ()
    closed: tuple[tuple[str, str], ...] = ()
    guest: str | None = None
    unfiltered: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{'replace' if self.there else 'load'} its rules ({self._what()})"

    def done(self) -> str:
        return f"{'replaced' if self.there else 'loaded'} its rules ({self._what()})"

    def _what(self) -> str:
        parts = [f"{self.doors} door{'s' * (self.doors != 1)}"]
        parts += [f"{verb} {_some(keys)}" for verb, keys in (("opens", self.opened), ("closes", self.closed)) if keys]
        return "; ".join(parts)


def _some(keys: tuple[tuple[str, str], ...]) -> str:
    """The first few by name, and the number of the others."""
    named = ", ".join(" ".join(key) for key in keys[:3])
    return f"{named} and {len(keys) - 3} more" if len(keys) > 3 else named


@change("remove-rules", END)
class RemoveRules(NamedTuple):
    """Remove the lab's rules from the kernel."""

    guest: str | None = None

    def __str__(self) -> str:
        return "remove its rules"

    def done(self) -> str:
        return "removed its rules"


@change("forwarding", HOST)
class Forwarding(NamedTuple):
    """Enable IP forwarding (its former state is recorded), or restore that state."""

    on: bool
    guest: str | None = None

    def __str__(self) -> str:
        return "enable IP forwarding" if self.on else "restore the forwarding setting"

    def done(self) -> str:
        return "enabled IP forwarding" if self.on else "restored the forwarding setting"


@change("open-firewall", HOST)
class OpenFirewall(NamedTuple):
    """Allow the lab's traffic in this host's own firewall: one narrow rule for each flow."""

    opened: tuple[Opening, ...]
    guest: str | None = None

    def __str__(self) -> str:
        return f"allow in its own firewall: {_openings(self.opened)}"

    def done(self) -> str:
        return f"allowed in its own firewall: {_openings(self.opened)}"


@change("close-firewall", END)
class CloseFirewall(NamedTuple):
    """Remove those rules."""

    closed: tuple[Opening, ...]
    guest: str | None = None

    def __str__(self) -> str:
        return f"remove from its own firewall: {_openings(self.closed)}"

    def done(self) -> str:
        return f"removed from its own firewall: {_openings(self.closed)}"


def _openings(all_of: tuple[Opening, ...]) -> str:
    about = list(dict.fromkeys(str(o) for o in all_of))
    return ", ".join(about[:4]) + (f" and {len(about) - 4} more" if about[4:] else "")


@change("ask-router", END)
class AskRouter(NamedTuple):
    """Ask the router to forward doors from outside, and to remove former mappings; each is a guest and a door."""

    opened: tuple[tuple[str, str], ...] = ()
    closed: tuple[tuple[str, str], ...] = ()
    guest: str | None = None

    def __str__(self) -> str:
        return f"ask the router {self._what()}"

    def done(self) -> str:
        return f"asked the router {self._what()}"

    def _what(self) -> str:
        parts = [f"to forward {_some(self.opened)}"] if self.opened else []
        parts += [f"to stop forwarding {_some(self.closed)}"] if self.closed else []
        return ", and ".join(parts)


@change("caretaker", HOST)
class Caretaker(NamedTuple):
    """Start the process that serves the lab (addresses, names, port mappings), or stop it if nothing needs it. With
    `anew`, restart one that an older version of Dacha started."""

    on: bool
    anew: bool = False
    guest: str | None = None

    def __str__(self) -> str:
        return f"start the caretaker{self._anew()}" if self.on else "stop the caretaker"

    def done(self) -> str:
        return f"started the caretaker{self._anew()}" if self.on else "stopped the caretaker"

    def _anew(self) -> str:
        return " again, with this version of Dacha" if self.anew else ""
