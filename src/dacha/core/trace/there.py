"""The hop from over there: the same door, entered from a machine that somebody can log in to."""

from __future__ import annotations

from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.seen.evidence import OPEN, REFUSED, SILENT, UNREACHABLE, ConnectResult, Evidence

# What OpenSSH says when the machine that it is logged in to cannot connect (its channel's failure, RFC 4254 section
# 5.1, with the words of that machine's system), and what that is here.
_WORDS = (
    ("administratively prohibited", ""),
    ("connection refused", REFUSED),
    ("timed out", SILENT),
    ("no route to host", UNREACHABLE),
    ("network is unreachable", UNREACHABLE),
    ("open failed", UNREACHABLE),
)


def read_failure(said: str) -> tuple[str | None, str]:
    """How connecting from there went, by the client's words: None where that machine could not be asked; and why."""
    last = next((line.strip() for line in reversed(said.splitlines()) if line.strip()), "no word of why")
    low = said.lower()
    for words, how in _WORDS:
        if words in low and "open failed" in low:
            return (how, last) if how else (None, "its SSH server lets nobody connect on from there")
    return None, last


def there(e: Evidence) -> Hop | None:
    seen = e.there
    if seen is None:
        return None
    who = seen.machine
    if seen.result is None:
        why = f"{who} could not be asked: {seen.why}"
        remedy = f"a login without a question has to work: ssh {who} true"
        return Hop("there", UNTESTED, f"{why}; {remedy}")
    got = seen.result
    if got.ok and _another(e.through, got):
        means = "another machine has that address over there: a network of its own between, or an address used twice"
        return Hop("there", BROKEN, f"{who} gets {got.seen!r}, this host {_words(e.through)!r}", means, _look(e, who))
    if got.ok:
        return Hop("there", FINE, f"{who} gets in: {got.seen}")
    how = {OPEN: f"enters, and gets {got.seen or 'no word'}", REFUSED: "is refused", SILENT: "gets no answer"}
    seen_there = f"{who} {how.get(got.how, 'does not get there')}" + (f": {got.seen}" if got.how == UNREACHABLE else "")
    if e.through is None or not e.through.ok:
        return Hop(
            "there", BROKEN, seen_there, "as this host does not get in either: the hops before say why", _look(e, who)
        )
    means = {
        REFUSED: "this host lets it in, so something between, or on that machine, refuses it",
        SILENT: "this host lets it in, so a firewall between, or on that machine, drops it",
    }.get(got.how, "this host lets it in, so that machine has no way to this address")
    return Hop("there", BROKEN, seen_there, means, _look(e, who))


def _another(here: ConnectResult | None, got: ConnectResult) -> bool:
    """True when two answers come from two servers."""
    return bool(here and here.ok and here.seen and got.seen and here.seen != got.seen)


def _words(here: ConnectResult | None) -> str:
    return here.seen if here else ""


def _look(e: Evidence, who: str) -> str:
    address = e.place.rpartition(":")[0].strip("[]")
    return f"ssh {who} ip route get {address} shows its way; its firewall, and what lies between, are its owner's"
