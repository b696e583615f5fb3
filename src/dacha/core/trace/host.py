"""The hops on this host between the client and the guest's network: rules, addresses, the door itself."""

from __future__ import annotations

from dacha.core.network.confinement import REMEDY
from dacha.core.network.uplink import Cut
from dacha.core.trace.causes.path import why_one_is_unanswered
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import Unforwarded
from dacha.core.trace.service import mute, told_to


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
    if e.host.untracked:
        what, shown = e.host.untracked
        seen = f"{what} exempts it from connection tracking (notrack)"
        remedy = f"{shown}\nshows it: remove that rule, or limit it to other connections"
        return Hop("door-rule", BROKEN, seen, "the door's rule applies to tracked connections only", remedy)
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
    return forwards(e.host.forwarding, e.host.unforwarded)


def forwards(on: bool, unforwarded: Unforwarded | None) -> Hop:
    """Whether this host forwards packets at all, and those of a connection."""
    if not on:
        means = "this host does not forward packets between its networks"
        return Hop("forwarding", BROKEN, "net.ipv4.ip_forward is 0", means, "dacha apply")
    return _unforwarded(unforwarded) if unforwarded else Hop("forwarding", FINE, "on")


def _unforwarded(u: Unforwarded) -> Hop:
    if u.off:
        seen, command = f"net.ipv4.conf.{u.link}.forwarding is 0", f"sysctl -w net.ipv4.conf.{u.link}.forwarding=1"
        return Hop("forwarding", BROKEN, seen, f"this host does not forward packets that arrive by {u.link}", command)
    packets = f"packets from {u.source} to {u.to} that arrive by {u.link}"
    shows = f"ip route get {u.to} from {u.source} iif {u.link}\nip rule and ip route show table all show the routes"
    if u.goes:
        means = "a policy rule or another route of this host sends them elsewhere"
        return Hop("forwarding", BROKEN, f"{packets} go to {u.goes}, not to {u.wanted}", means, shows)
    means = "one of: a route or a policy rule of this host forbids it; its reverse path filter (rp_filter) drops them"
    return Hop("forwarding", BROKEN, f"the kernel does not forward {packets} ({u.reason})", means, shows)


def firewall(e: Evidence) -> Hop:
    if found := e.host.dropped:
        remedy = f"{found.shown}\nshows it: remove that rule, or add one before it that accepts the connection"
        if found.openable:
            remedy = f"dacha apply --open-firewall\nadds one narrow rule; or allow it there by hand: {found.shown}"
        return Hop("firewall", BROKEN, found.words(), "another firewall on this host blocks it", remedy)
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
    admits = f"admits {limits}" if limits else "allows every client"
    told = why_one_is_unanswered(e, e.sources.asker) if e.sources.asker and kept_source(e) else None
    if told and told.advice:
        return Hop("sources", BROKEN if told.proved else ASIDE, f"the door {admits}; {told.seen}", told.means,
                   told_to(e, told.advice))  # fmt: skip
    return Hop("sources", FINE, admits)


def kept_source(e: Evidence) -> bool:
    """True if the guest sees a client's own address: QEMU's user mode and this host's loopback hide it."""
    return e.way != "user" and not e.host.on_loopback and e.origin != "host"


def cut_off(hop: str, cut: Cut) -> Hop:
    """This host, or the guest, is disconnected from the LAN."""
    return Hop(hop, BROKEN, f"disconnected from the LAN: {cut.what}", cut.means, cut.remedy)


def lan_address(e: Evidence) -> Hop:
    if e.origin == "outside" and e.host.on_loopback:
        # A door from outside is also forwarded on this host.
        return Hop("lan-address", FINE, "not needed: this door listens on this host's loopback only")
    if not e.host.lan_address:
        means = "machines on the LAN cannot reach this host"
        return Hop(
            "lan-address", BROKEN, "this host has no address on a LAN", means, "check its cable, and: ip address"
        )
    if e.host.cut:
        return cut_off("lan-address", e.host.cut)
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
