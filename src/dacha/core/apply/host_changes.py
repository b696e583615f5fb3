"""The changes of this host: links, rules, forwarding, the router above it, the caretaker."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.apply.change import END, HOST, change
from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from dacha.core.network.host_firewall import Opening
    from dacha.core.network.links import Link


@change("make-link", HOST)
class MakeLink(NamedTuple):
    """Create one of the lab's links, or repair what differs."""

    link: Link
    there: bool
    guest: str | None = None

    def __str__(self) -> str:
        return f"{'repair' if self.there else 'create'} {self._link()}"

    def done(self) -> str:
        return f"{'repaired' if self.there else 'created'} {self._link()}"

    def _link(self) -> str:
        # Imported when there is a link to speak of: most labs have none, and look at their changes at every command.
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
    """Remove a link of the lab that nothing in it needs any more."""

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
    """Replace the lab's rules in the kernel, in one step: `doors` are how many, `opened` and `closed` those that
    change, by guest and name; `unfiltered` are links that lack the filter by which they are closed without rules."""

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
    """The first few by name, and how many more."""
    named = ", ".join(" ".join(key) for key in keys[:3])
    return f"{named} and {len(keys) - 3} more" if len(keys) > 3 else named


@change("remove-rules", END)
class RemoveRules(NamedTuple):
    """Take the lab's rules out of the kernel."""

    guest: str | None = None

    def __str__(self) -> str:
        return "remove its rules"

    def done(self) -> str:
        return "removed its rules"


@change("forwarding", HOST)
class Forwarding(NamedTuple):
    """Let the kernel forward packets (the former state is remembered), or as it was before."""

    on: bool
    guest: str | None = None

    def __str__(self) -> str:
        return "enable IP forwarding" if self.on else "restore the forwarding setting"

    def done(self) -> str:
        return "enabled IP forwarding" if self.on else "restored the forwarding setting"


@change("open-firewall", HOST)
class OpenFirewall(NamedTuple):
    """Let the lab's ways pass this host's own firewall: a narrow rule for each."""

    opened: tuple[Opening, ...]
    guest: str | None = None

    def __str__(self) -> str:
        return f"allow in its own firewall: {_openings(self.opened)}"

    def done(self) -> str:
        return f"allowed in its own firewall: {_openings(self.opened)}"


@change("close-firewall", END)
class CloseFirewall(NamedTuple):
    """Take those rules out again."""

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
    """Ask the router above this host to lead doors in from outside, and to take away what it led: by guest and name."""

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
    """Start the process that looks after the lab (addresses, names, the way from outside), or end it where nothing
    needs it. With `anew` it runs, and is what an older version of Dacha started."""

    on: bool
    anew: bool = False
    guest: str | None = None

    def __str__(self) -> str:
        return f"start the caretaker{self._anew()}" if self.on else "stop the caretaker"

    def done(self) -> str:
        return f"started the caretaker{self._anew()}" if self.on else "stopped the caretaker"

    def _anew(self) -> str:
        return " again, with this version of Dacha" if self.anew else ""
