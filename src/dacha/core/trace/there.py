"""The hop from another machine: the same door, entered from a machine that the user can log in to."""

from __future__ import annotations

from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.results import OPEN, REFUSED, SILENT, UNREACHABLE, ConnectResult

# OpenSSH's messages if the machine that it is logged in to cannot connect (a channel failure, RFC 4254 section 5.1,
# with that system's message), and their meaning here.
_WORDS = (
    ("administratively prohibited", ""),
    ("connection refused", REFUSED),
    ("timed out", SILENT),
    ("no route to host", UNREACHABLE),
    ("network is unreachable", UNREACHABLE),
    ("open failed", UNREACHABLE),
)


def read_failure(said: str) -> tuple[str | None, str]:
    """The result of connecting from there, by the client's messages: None if that machine could not be used; and the
    reason."""
    last = next((line.strip() for line in reversed(said.splitlines()) if line.strip()), "no reason given")
    low = said.lower()
    for words, how in _WORDS:
        if words in low and "open failed" in low:
            return (how, last) if how else (None, "its SSH server does not allow TCP forwarding")
    return None, last


def there(e: Evidence) -> Hop | None:
    seen = e.there
    if seen is None:
        return None
    who = seen.machine
    if seen.result is None:
        why = f"{who} could not be used: {seen.why}"
        remedy = f"a login without a prompt must work: ssh {who} true"
        return Hop("there", UNTESTED, f"{why}; {remedy}")
    got = seen.result
    if got.ok and _another(e.tried.through, got):
        means = "over there, another machine has that address: a private network in between, or a duplicate address"
        return Hop(
            "there", BROKEN, f"{who} gets {got.seen!r}, this host {_words(e.tried.through)!r}", means, _look(e, who)
        )
    if got.ok:
        return Hop("there", FINE, f"{who} connects: {got.seen}")
    how = {OPEN: f"enters, and gets {got.seen or 'no data'}", REFUSED: "is refused", SILENT: "gets no answer"}
    seen_there = f"{who} {how.get(got.how, 'does not get a connection')}" + (
        f": {got.seen}" if got.how == UNREACHABLE else ""
    )
    if e.tried.through is None or not e.tried.through.ok:
        return Hop("there", BROKEN, seen_there, "this host cannot connect, either: see the hops before", _look(e, who))
    means = {
        REFUSED: "this host accepts it, so something in between, or on that machine, rejects it",
        SILENT: "this host accepts it, so a firewall in between, or on that machine, drops it",
    }.get(got.how, "this host accepts it, so that machine has no route to this address")
    return Hop("there", BROKEN, seen_there, means, _look(e, who))


def _another(here: ConnectResult | None, got: ConnectResult) -> bool:
    """True if two answers come from two different servers."""
    return bool(here and here.ok and here.seen and got.seen and here.seen != got.seen)


def _words(here: ConnectResult | None) -> str:
    return here.seen if here else ""


def _look(e: Evidence, who: str) -> str:
    address = e.place.address if e.place else "ADDRESS"
    return f"ssh {who} ip route get {address} shows its route; check its firewall and the network in between"
