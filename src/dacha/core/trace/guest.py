"""The hops up to a guest's address: the lab file, the guest, its adapter, its network."""

from __future__ import annotations

import re

from dacha.core.apply.faults import FAULTS, held
from dacha.core.apply.observed import BOOTING_S, QUIET_S
from dacha.core.apply.waiting import START, UNAPPLIED
from dacha.core.heard import Heard
from dacha.core.lab.kinds import ORIGIN_WORDS
from dacha.core.trace.causes.advice import to_see_shaping
from dacha.core.trace.causes.path import why_silent
from dacha.core.trace.causes.stopped_boot import stopped_boot
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.host import cut_off
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import NO_ANSWER, OPEN, REFUSED, REJECTED
from dacha.core.trace.service import told_to, touched
from dacha.core.units import show_duration

# The last messages of a Linux kernel (kernel/reboot.c).
_POWERED_OFF = re.compile(r"reboot: (Power down|Power off not available: System halted|System halted)\s*\Z")


def lab_file(e: Evidence) -> Hop:
    if e.lab.error:
        what, remedy = e.lab.error
        if e.run.state not in ("off", "saved"):
            # What was applied before is still in force: the other hops tell whether the path is open.
            return Hop("lab-file", ASIDE, what, "the lab file cannot be applied as it is now", remedy)
        return Hop("lab-file", BROKEN, what, "the lab file cannot be applied", remedy)
    away = ", closed to the LAN at this place" if e.away else ""
    return Hop("lab-file", FINE, f"door {e.door} from {ORIGIN_WORDS[e.origin]}{away}")


def applied(e: Evidence) -> Hop:
    if e.lab.not_applied:
        means = "the file was edited since it was last applied"
        if e.lab.not_applied == UNAPPLIED:
            means = "the lab file was never applied"
        elif e.lab.not_applied.until == START:
            means = "this takes effect at the guest's next start"
        return Hop("applied", BROKEN, e.lab.not_applied.what, means, e.lab.not_applied.remedy(e.guest))
    if e.lab.moves:
        means = "the file and the running guest have different addresses; the rest of this trace uses the current one"
        return Hop(
            "applied", ASIDE, f"from its next start, its address is {e.lab.moves}", means, f"dacha restart {e.guest}"
        )
    return Hop("applied", FINE, "all settings of this door are applied")


def guest(e: Evidence) -> Hop:
    start = f"dacha start {e.guest}"
    if e.run.state == "off":
        return Hop("guest", BROKEN, "it is off", _why_off(e), start)
    if e.run.state == "saved":
        return Hop(
            "guest", BROKEN, "it is off, with its memory saved to disk", "it continues when it is started", start
        )
    if e.run.state == "hung":
        means = "its process is stopped by a signal, or hangs"
        return Hop("guest", BROKEN, "its QEMU monitor does not respond", means, f"dacha restart {e.guest} --force")
    if e.run.status in FAULTS:
        still = held(e.guest, e.run.status, e.run.room)
        return Hop("guest", BROKEN, f"it is suspended: {still.what}", still.why, still.remedy)
    if e.run.state == "paused":
        return Hop("guest", BROKEN, "it is paused", "its virtual CPUs are stopped", f"dacha resume {e.guest}")
    age = f" for {show_duration(e.run.since_s)}" if e.run.since_s is not None else ""
    return Hop("guest", FINE, f"on{age}")


def _why_off(e: Evidence) -> str:
    run = e.run.last
    if e.run.stopped_on_purpose:
        return "it was stopped by command"
    if run is None:
        return "it was never started"
    if run.end:
        return f"{run.end}: dacha log {e.guest}"
    if not run.this_boot:
        return "it ran before this host's last boot"
    if _POWERED_OFF.search(run.console):
        return "its system powered itself off"
    return "it ended without a message: its system powered off, or its process was killed"


def answers(e: Evidence) -> bool:
    """True if the service itself responded, on any path."""
    return any(t is not None and t.ok for t in (e.tried.direct, e.tried.through))


def boot(e: Evidence) -> Hop:
    console = f"dacha console {e.guest} --record"
    # Its SSH server may have responded before the panic: clients then hang.
    hushed = e.login is not None and e.login.result == NO_ANSWER
    if e.run.panic and (hushed or not answers(e)):
        remedy = f"dacha restart {e.guest} --force\nits last output: {console}"
        if e.run.more_memory and "memory" in e.run.panic.lower():
            more = f"dacha guest edit {e.guest} --memory {e.run.more_memory}"
            remedy = f"{more}, then dacha restart {e.guest} --force\nits last output: {console}"
            return Hop("boot", BROKEN, e.run.panic, "its kernel ran out of memory and stopped (panic)", remedy)
        return Hop("boot", BROKEN, e.run.panic, "its kernel panicked", remedy)
    if (stopped := stopped_boot(e.run.shown, e.guest)) and not e.access.agent and not answers(e):
        return Hop("boot", BROKEN, stopped.seen, stopped.means, stopped.remedy)
    if e.run.nothing and not e.access.agent and not answers(e):
        what, remedy = e.run.nothing
        return Hop("boot", BROKEN, what, "no system starts in it", remedy)
    if e.run.booted or answers(e):
        return Hop("boot", FINE, e.run.booted or "its service responds")
    touch = touched(e)
    heard = e.net.seen_age_s is not None and e.run.since_s is not None and e.net.seen_age_s < e.run.since_s
    if heard or e.net.answered or (touch and (touch.how in (REFUSED, REJECTED) or touch.heard == Heard.CLOSED)):
        return Hop("boot", FINE, "it responds on the network")
    waits = e.net.address is None and e.net.caretaker is False  # Without a DHCP server, time does not help.
    if e.run.state == "on" and e.run.since_s is not None and e.run.since_s < BOOTING_S and not waits:
        ago = f"started {show_duration(e.run.since_s)} ago"
        if e.run.console_empty and e.run.since_s < QUIET_S:
            seen, again = f"{ago}, and its console has shown nothing yet", f"dacha trace {e.guest} {e.door}"
            return Hop("boot", BROKEN, seen, "it may still be starting", f"wait half a minute, then: {again}")
        if e.run.console_empty:
            means = (
                "one of: it is still starting; its kernel cannot start (too little memory, or another machine's); it "
                "does not use its serial console (console=ttyS0 is not on its command line)"
            )
            remedy = (
                f"dacha check compares its memory and kernel; dacha screen {e.guest} shows its display, if it has one"
            )
            return Hop("boot", BROKEN, f"{ago}, and its console has shown nothing", means, remedy)
        seen = f"{ago}, and its console does not show the end of its boot"
        return Hop("boot", BROKEN, seen, "it is still booting", f"wait; to watch it: {console}")
    return Hop("boot", UNTESTED, "its console does not show whether it has finished booting")


def adapter(e: Evidence) -> Hop:
    c = e.link.carried
    if c is None:
        return Hop("adapter", UNTESTED, e.gathered.untold or "the state of its link is not readable")
    if not c.there:
        means = "it was removed, or this host was rebooted"
        return Hop("adapter", BROKEN, f"its link {c.name} is gone", means, f"dacha apply, then dacha restart {e.guest}")
    if c.wanted and not c.bridge_there:
        return Hop("adapter", BROKEN, f"the bridge {c.wanted} is gone", "the network has no bridge", "dacha apply")
    if c.wanted and not c.bridge_up:
        return Hop("adapter", BROKEN, f"the bridge {c.wanted} is down", "the network has no bridge", "dacha apply")
    if c.wanted and not c.bridge_arp:
        means = "this host cannot find the hardware address of any guest on it"
        return Hop("adapter", BROKEN, f"ARP is switched off on {c.wanted}", means, f"ip link set {c.wanted} arp on")
    if c.wanted and c.master != c.wanted:
        seen = f"{c.name} is a port of {c.master}" if c.master else f"{c.name} is a port of no bridge"
        return Hop(
            "adapter", BROKEN, f"{seen}, not of {c.wanted}", "it was removed from its network's bridge", "dacha apply"
        )
    if not c.up:
        return Hop("adapter", BROKEN, f"{c.name} is down", "the link carries no traffic", "dacha apply")
    if not c.held and e.run.state == "on":
        means = "the guest still uses a link that was removed"
        return Hop("adapter", BROKEN, f"no process has {c.name} open", means, f"dacha restart {e.guest}")
    if e.way == "own" and e.host.cut:
        return cut_off("adapter", e.host.cut)
    if e.link.shaped:
        seen = f"traffic control by another program: {', '.join(e.link.shaped)}"
        return Hop("adapter", ASIDE, seen, "it may delay or drop packets", to_see_shaping(e.link.shaped[0]))
    return Hop("adapter", FINE, f"connected to network {e.network}")


def address(e: Evidence) -> Hop:
    age = f", last seen on the network {show_duration(e.net.seen_age_s)} ago" if e.net.seen_age_s is not None else ""
    if e.net.address is None:
        if e.net.caretaker is False:
            seen, means = "its address is not known", "the caretaker, which assigns addresses, is not running"
            return Hop("address", BROKEN, seen, means, "dacha apply")
        if e.link.frames == 0:
            return never_heard(e, "address")
        means = "it did not request one, or no DHCP server answered"
        return Hop("address", BROKEN, "its address is not known", means, f"dacha console {e.guest}")
    other = e.net.seen_address if e.net.seen_address != e.net.address else None
    if other and not e.net.answered and not answers(e):
        seen = f"it uses {other}, but {e.net.address} is planned{age}"
        remedy = (
            f"dacha guest edit {e.guest} --address {e.network}={other}, then dacha apply, then dacha restart {e.guest}"
        )
        told = why_silent(e)
        if told and told.advice and told.proved:
            remedy = f"{told_to(e, told.advice)}\nor plan the other: {remedy}"
        else:
            remedy = f"{remedy}\nor set {e.net.address} in the guest"
        return Hop("address", BROKEN, seen, "its system is configured with another address", remedy)
    how = "as assigned by DHCP" if e.net.handed_out else "as planned"
    return Hop("address", FINE, f"{e.net.address} {how}{age if not other else ''}")


def never_heard(e: Evidence, name: str) -> Hop:
    """A guest that has not sent a single frame through its adapter since its start."""
    other = "e1000" if e.link.model == "virtio" else "virtio"
    means = f"its system is not running yet, or has no driver for its adapter ({e.link.model})"
    remedy = (
        f"dacha console {e.guest} shows which of the two\nif it is up: dacha guest edit {e.guest} --model {other}, "
    )
    return Hop(
        name, BROKEN, "it has not sent a single frame since its start", means, f"{remedy}then dacha restart {e.guest}"
    )


def neighbour(e: Evidence) -> Hop:
    if e.net.answered is None:
        return Hop("neighbour", UNTESTED, e.gathered.untold or "this host is not on that network")
    if e.link.pinned not in ("", e.link.hardware) and e.link.carried and e.link.carried.wanted:
        seen = f"this host sends to {e.net.address} at the hardware address {e.link.pinned}, set by hand"
        remedy = f"ip neighbour delete {e.net.address} dev {e.link.carried.wanted}"
        return Hop("neighbour", BROKEN, seen, f"the guest's adapter has {e.link.hardware}", remedy)
    others = [h for h in e.net.answered if h != e.link.hardware]
    if others:
        seen = f"{e.net.address} is used by {', '.join(others)}" + (" too" if e.link.hardware in e.net.answered else "")
        return Hop("neighbour", BROKEN, seen, "two machines have the same address", "change one of the two addresses")
    if not e.net.answered:
        touch = touched(e)
        if answers(e) or (touch and touch.how in (REFUSED, OPEN)):
            return Hop("neighbour", UNTESTED, "it did not answer ARP in time, but it answers TCP")
        if e.link.frames == 0:
            return never_heard(e, "neighbour")
        told = why_silent(e)
        if told and told.advice:
            seen = f"no machine answers ARP for {e.net.address} on {e.network}; {told.seen}"
            return Hop("neighbour", BROKEN, seen, told.means, told_to(e, told.advice))
        means = "its adapter is disconnected, not configured, or has another address"
        remedy = f"dacha console {e.guest}, then look: ip address"
        if e.link.shaped:
            means, remedy = f"one of: {e.link.shaped[0]} drops packets; {means}", to_see_shaping(e.link.shaped[0])
        return Hop("neighbour", BROKEN, f"no machine answers ARP for {e.net.address} on {e.network}", means, remedy)
    if e.link.learnt is False:
        return _not_learnt(e)
    return Hop("neighbour", FINE, f"answers in {e.net.answered_ms:.1f} ms")


def _not_learnt(e: Evidence) -> Hop:
    """The guest answers ARP, as a packet socket sees, and the kernel of this host does not have its address."""
    seen = "it answers ARP, but this host's kernel does not learn its hardware address"
    tables = e.host.arp_tables
    rule = f"of the family arp on this host drops it (table {', '.join(tables)})" if tables else "of arptables drops it"
    shows = [f"nft list table arp {table}" for table in tables] or ["arptables-legacy -L -v"]
    means = f"one of: a rule {rule}; the neighbour table of this host is full"
    remedy = "\n".join([*shows, "sysctl net.ipv4.neigh.default.gc_thresh3; ip -4 neighbour | wc -l"])
    return Hop("neighbour", BROKEN, seen, means, f"{remedy}\nshow which of the two")


def route(e: Evidence) -> Hop | None:
    if e.link.route is None:
        return None
    link, wanted, source, refused = e.link.route
    if link != wanted and e.link.carried and e.link.carried.lost:
        seen = f"{wanted} does not have its address {e.link.carried.lost}: packets for {e.net.address} go to {link}"
        return Hop("route", BROKEN, seen, "this host has no route to the network without it", "dacha apply")
    if link != wanted:
        means = "another route, or a policy rule, of this host sends these packets elsewhere"
        remedy = f"ip route get {e.net.address}\nip rule and ip route show table all show what leads there"
        return Hop("route", BROKEN, f"packets for {e.net.address} go to {link}, not to {wanted}", means, remedy)
    if refused:
        means = "a policy rule of this host forbids packets from there"
        shows = f"ip route get {e.net.address} from {source}\nip rule and ip route show table all show the rule"
        seen = f"this host sends no packets to {e.net.address} from its own address {source} ({refused})"
        return Hop("route", BROKEN, seen, means, shows)
    return Hop("route", FINE, f"by {link}")


def inside(e: Evidence) -> Hop | None:
    """What the guest could have reported but did not: a cause may be missing."""
    return (
        Hop("inside", UNTESTED, f"the guest could not be queried: {e.gathered.mute}")
        if e.gathered.mute and e.run.state == "on"
        else None
    )
