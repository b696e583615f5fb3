"""Missing evidence: which questions to the guest may explain a problem, and whether its answers do."""

from __future__ import annotations

from dacha.core.heard import Heard
from dacha.core.trace.beyond import large_are_lost
from dacha.core.trace.causes.path import why_not_beyond, why_silent
from dacha.core.trace.causes.port import serves, why_mute, why_shut
from dacha.core.trace.causes.refused import waited_for, why_refused
from dacha.core.trace.host import kept_source
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import other_ports
from dacha.core.trace.seen.questions import ACCOUNT, LINKS, LISTENERS, REFUSED, RULES, RUNNING, SERVER, SERVICES, SHUT
from dacha.core.trace.seen.questions import SILENT as WHY_SILENT
from dacha.core.trace.seen.results import NO_ANSWER, OPEN, PUT_OUT, REFUSED_LOGIN, SILENT, UNREACHABLE
from dacha.core.trace.service import touched, wordless


def wanted(e: Evidence) -> tuple[str, ...]:
    """The questions that may explain what was seen, the most telling first; none if nothing blocks clients."""
    heard = touched(e)
    if e.host.dropped_here and not (heard and heard.ok):
        return ()  # this host's own rules explain it
    if _unseen(e):
        return WHY_SILENT
    if heard is not None and not heard.ok:
        if heard.heard in (Heard.CLOSED, Heard.TURNED_AWAY) and e.service == "ssh":
            return (LISTENERS, SERVER, *(piece for piece in SHUT if piece != LISTENERS))
        if wordless(heard) and e.tried.arrived is not False and e.service != "tcp":
            return (LISTENERS, SERVICES, SERVER) if e.service == "ssh" else (LISTENERS, SERVICES)
        return WHY_SILENT if heard.how in (SILENT, UNREACHABLE) or heard.how == OPEN else SHUT
    if e.login is not None:
        if e.service == "rdp":
            return (ACCOUNT,)
        if e.login.result == NO_ANSWER and e.login.entered:
            return (RUNNING,)
        if e.login.result in (REFUSED_LOGIN, PUT_OUT):
            return (ACCOUNT, SERVER) if e.login.accepted else REFUSED
    if large_are_lost(e):
        return (LINKS, RULES)
    if e.tried.reply is not None and e.tried.reply.how in (SILENT, UNREACHABLE):
        return (LINKS,)
    if e.sources.asker and e.sources.admitted is not False and kept_source(e):
        return (RULES, LINKS)
    return ()


def _unseen(e: Evidence) -> bool:
    """True if no machine answers ARP for the guest's address on its network, or it uses another address."""
    heard = touched(e)
    quiet = heard is None or heard.how in (SILENT, UNREACHABLE)
    return (
        quiet and e.way != "user" and (e.net.answered == () or (e.net.seen_address or e.net.address) != e.net.address)
    )


def explained(e: Evidence) -> bool:
    """True if the guest's answers name one cause of what was seen, so that no further question is needed."""
    heard, inside = touched(e), e.inside
    if inside is None:
        return False
    if _unseen(e):
        told = why_silent(e)
        return told is not None and told.proved
    if heard is not None and not heard.ok:
        if wordless(heard) and e.tried.arrived is not False:
            told = why_mute(inside, e.service, e.port)
            return told is not None and told.proved
        if heard.heard in (Heard.CLOSED, Heard.TURNED_AWAY) and serves(inside, e.port):
            # In user mode a firewall that rejects looks the same.
            ruled = e.way != "user" or inside.knows(RULES)
            return bool(inside.log) or (ruled and (e.service != "ssh" or inside.knows(SERVER)))
        shut = why_shut(e)
        elsewhere = [port for port in other_ports(inside, e.service) if port != e.port]
        link = why_silent(e)
        if link is not None and link.proved:
            return True
        return bool(elsewhere) or (shut is not None and shut.proved)
    if e.login is not None and e.service == "ssh" and e.login.result == NO_ANSWER:
        return waited_for(inside) is not None
    if e.login is not None and e.service == "ssh":
        refused = why_refused(inside, e.login, e.now)
        return refused is not None and refused.proved
    if large_are_lost(e):
        return bool(inside.links) and inside.knows(RULES)
    if e.tried.reply is not None and e.tried.reply.how in (SILENT, UNREACHABLE):
        return inside.gateway is not None and why_not_beyond(e) is not None
    return False
