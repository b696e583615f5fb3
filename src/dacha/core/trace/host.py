"""The hops on this host between the client and the guest's network: rules, addresses, the door itself."""

from __future__ import annotations

from dacha.core.network.confinement import REMEDY
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.service import mute


def rules(e: Evidence) -> Hop | None:
    """Whether the rules that confine the guests of the door's network are present: without them no traffic passes."""
    found = e.host.confinement
    if found is None:
        return None
    if found.sound:
        return Hop("rules", FINE, "loaded; guests are confined")
    keeps_out = found.missing and not (e.tried.through is not None and e.tried.through.ok)
    return Hop("rules", BROKEN if keeps_out else ASIDE, found.what(), found.means(), REMEDY)


def door_rule(e: Evidence) -> Hop:
    if e.host.rule is None:
        return Hop("door-rule", UNTESTED, e.gathered.untold or "the firewall rules are not readable")
    if e.host.rule == "missing":
        return Hop(
            "door-rule",
            BROKEN,
            "its firewall rule is missing in the kernel",
            "it was removed by another program, or by hand",
            "dacha apply",
        )
    if e.host.rule != "there":
        return Hop(
            "door-rule",
            BROKEN,
            f"its rule forwards to {e.host.rule}",
            "it was changed by another program, or by hand",
            "dacha apply",
        )
    if e.host.rules_changed and e.tried.through is not None and not e.tried.through.ok:
        return Hop(
            "door-rule",
            BROKEN,
            "the lab's rules were changed since they were loaded",
            "they were changed by another program, or by hand",
            "dacha apply",
        )
    means = "another program's rule matches first"
    if e.host.taken:
        return Hop("door-rule", BROKEN, f"{e.host.taken[0]} forwards it elsewhere", means, e.host.taken[1])
    if e.host.led and e.host.led[0] != e.net.address:
        seen = f"its rule is present, but a connection is forwarded to {e.host.led[0]}, port {e.host.led[1]}"
        return Hop("door-rule", BROKEN, seen, means, "nft list ruleset shows which: look for dnat and notrack")
    ours = "; verified with a connection" if e.host.led else ""
    return Hop("door-rule", FINE, f"{e.place} forwards to {e.net.address}, port {e.port}{ours}")


def forwarding(e: Evidence) -> Hop:
    if e.host.forwarding is None:
        return Hop("forwarding", UNTESTED, "the setting is not readable")
    if not e.host.forwarding:
        means = "this host does not forward packets between its networks"
        return Hop("forwarding", BROKEN, "net.ipv4.ip_forward is 0", means, "dacha apply")
    return Hop("forwarding", FINE, "on")


def firewall(e: Evidence) -> Hop:
    if e.host.dropped:
        what, shown = e.host.dropped
        remedy = f"dacha apply --open-firewall\nadds one narrow rule; or allow it there by hand: {shown}"
        return Hop("firewall", BROKEN, f"{what} drops it", "another firewall on this host blocks it", remedy)
    if e.gathered.untold:
        return Hop("firewall", UNTESTED, e.gathered.untold)
    return Hop("firewall", FINE, "no other firewall on this host blocks it")


def sources(e: Evidence) -> Hop:
    limits = ", ".join(e.sources.allowed)
    if e.sources.admitted is False:
        remedy = f"dacha door edit {e.guest} {e.door} --allow {e.sources.asker}, then dacha apply"
        return Hop(
            "sources",
            BROKEN,
            f"allows {limits}, not {e.sources.asker}",
            "the door is limited to these addresses",
            remedy,
        )
    return Hop("sources", FINE, f"admits {limits}" if limits else "allows every client")


def lan_address(e: Evidence) -> Hop:
    if e.origin == "outside" and e.host.on_loopback:
        # A door from outside is also forwarded on this host.
        return Hop("lan-address", FINE, "not needed: this door listens on this host's loopback only")
    if not e.host.lan_address:
        means = "machines on the LAN cannot reach this host"
        return Hop(
            "lan-address", BROKEN, "this host has no address on a LAN", means, "check its cable, and: ip address"
        )
    if e.host.told_address and e.host.told_address != e.host.lan_address:
        seen = f"this host's address is now {e.host.lan_address}; dacha apply printed {e.host.told_address}"
        means = "clients that use the old address no longer connect"
        remedy = "tell its users the new address, or reserve one in the LAN's DHCP server; then: dacha apply"
        return Hop("lan-address", ASIDE, seen, means, remedy)
    return Hop("lan-address", FINE, f"this host's address is {e.host.lan_address}")


def door(e: Evidence) -> Hop:
    if e.tried.through is None:
        return Hop("door", UNTESTED, e.gathered.untold or "it cannot be tried from this host")
    if e.tried.through.ok:
        return Hop("door", FINE, f"{e.place}: {e.tried.through.seen}")
    if mute(e, e.tried.through):
        return Hop("door", UNTESTED if e.way == "user" else FINE, f"{e.place}: accepts connections")
    said = e.tried.through.seen or e.tried.through.how
    means = "every hop before is fine, but no connection gets through"
    return Hop(
        "door",
        BROKEN,
        f"{e.place}: {said}",
        means,
        f"dacha trace {e.guest} {e.door} --all shows what could not be tested",
    )


def names(e: Evidence) -> Hop | None:
    """Whether the lab's name server works. Doors do not need it; people and other guests do."""
    if not e.names.server:
        return None
    if e.names.answer is None:
        means = "the caretaker, which runs the name server, is not running" if e.net.caretaker is False else "it hangs"
        seen = f"{e.names.server} does not answer queries for {e.names.name}"
        return Hop("names", ASIDE, seen, f"{means}; guests cannot resolve names", "dacha apply")
    if e.net.address and e.net.address not in e.names.answer:
        seen = f"{e.names.name} resolves to {', '.join(e.names.answer) or 'nothing'}, not to {e.net.address}"
        return Hop("names", ASIDE, seen, "the caretaker has not learned the address yet", "dacha apply")
    return Hop("names", FINE, f"{e.names.name} is {', '.join(e.names.answer)}")
