"""The hops up to a guest's own address: the file, the guest, its adapter, its place on the network."""

from __future__ import annotations

import re

from dacha.core.apply.faults import FAULTS, held
from dacha.core.apply.observed import BOOTING_S
from dacha.core.apply.waiting import NEVER
from dacha.core.lab.model import ORIGIN_WORDS
from dacha.core.trace.hop import ASIDE, BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import NO_ANSWER, OPEN, REFUSED, REJECTED, Evidence
from dacha.core.trace.service import told_to, touched
from dacha.core.trace.told import why_silent
from dacha.core.units import show_duration

# What a Linux system says last (kernel/reboot.c).
_POWERED_OFF = re.compile(r"reboot: (Power down|Power off not available: System halted|System halted)\s*\Z")


def lab_file(e: Evidence) -> Hop:
    if e.lab_error:
        what, remedy = e.lab_error
        if e.state != "off":
            # What was applied holds on: whether the way is open is for the other hops to say.
            return Hop("lab-file", ASIDE, what, "the lab cannot be applied any more as it is written", remedy)
        return Hop("lab-file", BROKEN, what, "the lab cannot be applied as it is written", remedy)
    return Hop("lab-file", FINE, f"door {e.door} from {ORIGIN_WORDS[e.origin]}")


def applied(e: Evidence) -> Hop:
    if e.not_applied:
        what, remedy = e.not_applied
        means = "the file was edited since it was last applied"
        if what == NEVER:
            means = "nothing of what the file says is there yet"
        elif remedy != "dacha apply":
            means = "a running guest takes that up at its next start only"
        return Hop("applied", BROKEN, what, means, remedy)
    if e.moves:
        means = "the file has another address than the running guest: what follows is how it is now"
        return Hop("applied", ASIDE, f"from its next start on it is at {e.moves}", means, f"dacha restart {e.guest}")
    return Hop("applied", FINE, "nothing of this door is left to apply")


def guest(e: Evidence) -> Hop:
    start = f"dacha start {e.guest}"
    if e.state == "off":
        return Hop("guest", BROKEN, "it is off", _why_off(e), start)
    if e.state == "hung":
        means = "its process is held from outside, or hangs"
        return Hop("guest", BROKEN, "its monitor does not answer", means, f"dacha restart {e.guest} --force")
    if e.status in FAULTS:
        still = held(e.guest, e.status, e.room)
        return Hop("guest", BROKEN, f"it stands still: {still.what}", still.why, still.remedy)
    if e.state == "paused":
        return Hop("guest", BROKEN, "it is paused", "its processors are held", f"dacha resume {e.guest}")
    age = f" for {show_duration(e.since_s)}" if e.since_s is not None else ""
    return Hop("guest", FINE, f"on{age}")


def _why_off(e: Evidence) -> str:
    run = e.last_run
    if e.stopped_on_purpose:
        return "it was stopped, and left off"
    if run is None:
        return "it was never started"
    if not run.this_boot:
        return "it ran before this host was started anew"
    if run.killed:
        return f"the kernel killed it: {run.killed}"
    if run.log:
        return f"its process ended, and QEMU said: {run.log}"
    if _POWERED_OFF.search(run.console):
        return "its system powered itself off"
    return "it ended without a word: its system powered off, or its process was killed"


def answers(e: Evidence) -> bool:
    """True when the service itself was heard, by whichever path."""
    return any(t is not None and t.ok for t in (e.direct, e.through))


def boot(e: Evidence) -> Hop:
    console = f"dacha console {e.guest} --record"
    # It may have greeted before it gave up: who then logs in hears nothing any more.
    hushed = e.login is not None and e.login.result == NO_ANSWER
    if e.panic and (hushed or not answers(e)):
        remedy = f"dacha restart {e.guest} --force\nwhat it said before: {console}"
        if e.more_memory and "memory" in e.panic.lower():
            more = f"dacha guest edit {e.guest} --memory {e.more_memory}"
            remedy = f"{more}, then dacha restart {e.guest} --force\nwhat it said before: {console}"
            return Hop("boot", BROKEN, e.panic, "its kernel gave up for want of memory", remedy)
        return Hop("boot", BROKEN, e.panic, "its kernel has given up", remedy)
    if e.booted or answers(e):
        return Hop("boot", FINE, e.booted or "it serves")
    touch = touched(e)
    heard = e.seen_age_s is not None and e.since_s is not None and e.seen_age_s < e.since_s
    if heard or e.answered or (touch and (touch.how in (REFUSED, REJECTED) or touch.seen == "closes at once")):
        return Hop("boot", FINE, "its system is on the network")
    waits = e.address is None and e.caretaker is False  # however long it has been on, nobody gives it an address
    if e.state == "on" and e.since_s is not None and e.since_s < BOOTING_S and not waits:
        ago = f"started {show_duration(e.since_s)} ago"
        if e.console_empty:
            means = (
                "one of: it is still starting; its kernel cannot start (too little memory, or another machine's); it "
                "does not use its serial console (console=ttyS0 is not on its command line)"
            )
            remedy = (
                f"dacha check compares its memory and kernel; dacha screen {e.guest} shows its display, if it has one"
            )
            return Hop("boot", BROKEN, f"{ago}, and its console has shown nothing", means, remedy)
        seen = f"{ago}, and its console shows no end of it"
        return Hop("boot", BROKEN, seen, "it is still booting", f"wait; what it does: {console}")
    return Hop("boot", UNTESTED, "its console does not show whether it has finished booting")


def adapter(e: Evidence) -> Hop:
    c = e.carried
    if c is None:
        return Hop("adapter", UNTESTED, e.untold or "its link could not be looked at")
    if not c.there:
        means = "somebody removed it, or this host was started anew"
        return Hop("adapter", BROKEN, f"its link {c.name} is gone", means, f"dacha apply, then dacha restart {e.guest}")
    if c.wanted and not c.bridge_there:
        return Hop("adapter", BROKEN, f"the bridge {c.wanted} is gone", "nothing carries the network", "dacha apply")
    if c.wanted and not c.bridge_up:
        return Hop("adapter", BROKEN, f"the bridge {c.wanted} is down", "nothing carries the network", "dacha apply")
    if c.wanted and c.master != c.wanted:
        seen = f"{c.name} is a port of {c.master}" if c.master else f"{c.name} is a port of no bridge"
        return Hop("adapter", BROKEN, f"{seen}, not of {c.wanted}", "it was taken off its network", "dacha apply")
    if not c.up:
        return Hop("adapter", BROKEN, f"{c.name} is down", "nothing of the guest passes", "dacha apply")
    if not c.held and e.state == "on":
        means = "the guest holds on to a link that was removed"
        return Hop("adapter", BROKEN, f"no process has {c.name} open", means, f"dacha restart {e.guest}")
    return Hop("adapter", FINE, f"plugged in, on network {e.network}")


def address(e: Evidence) -> Hop:
    age = f", seen on the wire {show_duration(e.seen_age_s)} ago" if e.seen_age_s is not None else ""
    if e.address is None:
        if e.caretaker is False:
            seen, means = "it has no address that is known", "the caretaker, which hands them out, does not run"
            return Hop("address", BROKEN, seen, means, "dacha apply")
        if e.frames == 0:
            return never_heard(e, "address")
        means = "it did not ask for one, or nobody gave it one"
        return Hop("address", BROKEN, "it has no address that is known", means, f"dacha console {e.guest}")
    other = e.seen_address if e.seen_address != e.address else None
    if other and not e.answered and not answers(e):
        seen = f"it uses {other}, and {e.address} is planned{age}"
        remedy = (
            f"dacha guest edit {e.guest} --address {e.network}={other}, then dacha apply, then dacha restart {e.guest}"
        )
        told = why_silent(e)
        if told and told.advice:
            remedy = f"{told_to(e, told.advice)}\nor plan the other: {remedy}"
        else:
            remedy = f"{remedy}\nor set {e.address} in the guest"
        return Hop("address", BROKEN, seen, "its system was told another address", remedy)
    how = "as handed out" if e.handed_out else "as planned"
    return Hop("address", FINE, f"{e.address} {how}{age if not other else ''}")


def never_heard(e: Evidence, name: str) -> Hop:
    """A guest that has sent nothing at all by its adapter since it was started."""
    other = "e1000" if e.model == "virtio" else "virtio"
    means = f"its system is not up, or has no driver for its adapter ({e.model})"
    remedy = f"dacha console {e.guest} shows which\nif it is up: dacha guest edit {e.guest} --model {other}, "
    return Hop(name, BROKEN, "it has never sent a frame", means, f"{remedy}then dacha restart {e.guest}")


def neighbour(e: Evidence) -> Hop:
    if e.answered is None:
        return Hop("neighbour", UNTESTED, e.untold or "this host is not on that network")
    others = [h for h in e.answered if h != e.hardware]
    if others:
        seen = f"{e.address} is answered for by {', '.join(others)}" + (" too" if e.hardware in e.answered else "")
        return Hop("neighbour", BROKEN, seen, "two machines have one address", "give one of them another")
    if not e.answered:
        touch = touched(e)
        if answers(e) or (touch and touch.how in (REFUSED, OPEN)):
            return Hop("neighbour", UNTESTED, "it did not answer ARP in time, and yet it answers TCP")
        if e.frames == 0:
            return never_heard(e, "neighbour")
        told = why_silent(e)
        if told and told.advice:
            seen = f"nobody answers for {e.address} on {e.network}; {told.seen}"
            return Hop("neighbour", BROKEN, seen, told.means, told_to(e, told.advice))
        means = f"{told.seen}; {told.means}" if told else "its adapter is unplugged, not set up, or has another address"
        remedy = f"dacha console {e.guest}, then look: ip address"
        return Hop("neighbour", BROKEN, f"nobody answers for {e.address} on {e.network}", means, remedy)
    return Hop("neighbour", FINE, f"answers in {e.answered_ms:.1f} ms")


def route(e: Evidence) -> Hop | None:
    if e.route is None:
        return None
    link, wanted = e.route
    if link != wanted:
        means = "another route of this host leads the address elsewhere"
        remedy = f"ip route get {e.address}\nip route shows the one that is in the way"
        return Hop("route", BROKEN, f"{e.address} leads to {link}, not to {wanted}", means, remedy)
    return Hop("route", FINE, f"by {link}")


def inside(e: Evidence) -> Hop | None:
    """What the guest could have told of itself and did not: then a cause may be missing."""
    return Hop("inside", UNTESTED, f"it could not be asked: {e.mute}") if e.mute and e.state == "on" else None
