"""A port that no program listens on, of a service that any program may serve: what the guest reports of others."""

from __future__ import annotations

import shlex

from dacha.core.trace.causes.advice import Advice, to_serve
from dacha.core.trace.hop import BROKEN, Hop
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.reported import Listener, Unit

# Programs of a system that serve none of the services that doors are for, and the beginnings of such services' names.
_PROGRAMS = ("sshd", "dropbear", "systemd", "systemd-resolve", "systemd-network", "rpcbind", "chronyd", "cupsd",
             "avahi-daemon", "dnsmasq", "master", "exim4", "smbd", "nmbd")  # fmt: skip
_UNITS = ("cloud-", "systemd-", "apt-", "e2scrub", "logrotate", "man-db", "dpkg-", "networking", "ifup", "unattended-")
# As many of each are named, and as many characters of a unit's last words.
_MOST, _SAID = 4, 80


def not_served(e: Evidence, inside: Inside, seen: str) -> Hop:
    """The hop for such a port. A service that failed, or a program on another port, may be its server."""
    others, failed = _elsewhere(inside), _failed(inside)
    means = [f"its server is the service {u.name}, which failed{_said(u)}" for u in failed]
    means += [f"its server is {x.program}, which listens on {x.port}" for x in others]
    seen = f"{seen}; no program listens on it"
    if not means:
        units = Advice("systemctl list-unit-files --type=service --no-pager")
        advice = units if inside.managed and not inside.units else to_serve(e.service, e.system)
        return Hop("service", BROKEN, seen, "its server is not running, or not installed", advice.said(e.guest, e.by))
    if failed:
        remedy = Advice(f"systemctl status --no-pager {shlex.quote(failed[0].name)}").said(e.guest, e.by)
    else:
        first = others[0]
        remedy = f"if it is {first.program}: dacha door edit {e.guest} {e.door} --to {first.port}, then dacha apply"
    means.append("its server is stopped, or not installed")
    return Hop("service", BROKEN, seen, f"one of: {'; '.join(means)}", remedy)


def _elsewhere(inside: Inside) -> list[Listener]:
    """The programs that listen on other ports, and not on the guest's loopback only."""
    found = {x.port: x for x in inside.listeners if x.program and x.program not in _PROGRAMS and not x.on_loopback}
    return sorted(found.values(), key=lambda x: x.port)[:_MOST]


def _failed(inside: Inside) -> list[Unit]:
    return [u for u in inside.failing if not u.name.startswith(_UNITS)][:_MOST]


def _said(unit: Unit) -> str:
    said = unit.said if len(unit.said) <= _SAID else f"{unit.said[:_SAID]}…"
    return f" ({said})" if said else ""
