"""Why a port of the guest is closed, silent, or closes each connection."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Interface

from dacha.core.network.firewall.matches import Packet
from dacha.core.trace.causes.advice import BUSY, SERVER_LOG, Advice, to_let_pass
from dacha.core.trace.causes.cause import Cause
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.own_rules import blocking
from dacha.core.trace.seen.questions import LISTENERS, NAMED_SERVERS, SERVICES, UNITS
from dacha.core.trace.seen.reported import Unit


def why_shut(e: Evidence) -> Cause | None:
    """Why a port of the guest does not respond; None if the reports do not explain it."""
    inside, service, port = e.inside, e.service, e.port
    if inside is None:
        return None
    here = [x for x in inside.listeners if x.port == port]
    if not here:
        return _not_serving(inside, service) if inside.knows(LISTENERS) or inside.units else None
    who = here[0].who or "its server"
    if all(x.on_loopback for x in here):
        how = "ListenAddress 0.0.0.0" if service == "ssh" else "0.0.0.0"
        words = f"configure it to listen on every address ({how}), and restart it"
        return Cause(
            f"{who} listens only on {here[0].address}", "only the guest itself can connect to it", Advice(words=words)
        )
    if all(x.on_loopback or x.by_ipv6_alone for x in here):
        how = "AddressFamily any, ListenAddress 0.0.0.0" if service == "ssh" else "0.0.0.0"
        words = f"configure it to listen on IPv4, too ({how}), and restart it"
        return Cause(f"{who} listens only on IPv6", "IPv4 clients cannot connect", Advice(words=words))
    if any(x.starts for x in here) and (failed := _not_starting(inside)):
        return failed
    if denied := _denied(e, inside, who):
        return denied
    blocked = blocking(inside.rules, first_packet(e, inside))
    if blocked is None:
        return None
    if blocked.sure:
        means = f"the guest's firewall blocks it: {blocked.words}"
        return Cause(f"{who} listens there", means, to_let_pass(blocked, port))
    means = f"one of: the guest's firewall may block it ({blocked.words}); its system hangs, or restarts its server"
    return Cause(f"{who} listens there", means, Advice(f"nft list ruleset; ss -ltn sport = :{port}"), proved=False)


def _denied(e: Evidence, inside: Inside, who: str) -> Cause | None:
    """The service may not use this host's address, as its service manager is told: packets are dropped for it alone."""
    unit, deny, allow = next((d for d in inside.denies if d[0] in UNITS.get(e.service, ())), ("", "", ""))
    client = client_of(e)
    if not client or not any(within(client, n) for n in deny.split()):
        return None
    if any(within(client, n) for n in allow.split()):
        return None
    words = f"remove IPAddressDeny, or add IPAddressAllow={client}: systemctl cat {unit} shows where it is set"
    means = f"its service {unit} may not exchange packets with {client} (IPAddressDeny)"
    return Cause(f"{who} listens there", means, Advice(words=words))


def within(address: str, network: str) -> bool:
    """True if an IPv4 address is in a network ("ADDRESS/PREFIX"), which a guest may make up."""
    try:
        return IPv4Address(address) in IPv4Interface(network).network
    except ValueError:
        return False


def first_packet(e: Evidence, inside: Inside, client: str | None = None) -> Packet:
    """The first packet of a connection as it comes into the guest: of this host's own, or of a client's."""
    link, address = inside.link_of(e.link.hardware) if e.link.hardware else None, e.net.address or e.net.planned
    version, source = 6 if ":" in address else 4, client or client_of(e)
    return Packet(version, link.name if link else None, None, source, address, "tcp", e.port)


def client_of(e: Evidence) -> str | None:
    """The address that this host's own connection comes from, as the guest sees it: in user mode QEMU leaves it as it
    is, unless it is a loopback address."""
    source = e.host.lan_address if e.way == "user" and not e.host.on_loopback else e.net.gateway
    return source or None


def _not_serving(inside: Inside, service: str) -> Cause | None:
    """Why no program has the port, by the reports of the service manager."""
    unit = next((u for u in inside.units if u.state == "failed"), next(iter(inside.units), None))
    if unit is None:
        # Another service manager was not queried.
        sure = service in NAMED_SERVERS and inside.managed and inside.knows(SERVICES) and inside.knows(LISTENERS)
        return Cause("no server for it is installed", "") if sure else None
    if unit.state == "failed":
        said = f": {unit.said}" if unit.said else ""
        return Cause(f"its service {unit.name} failed{said}", "its server does not start", _to_start(unit, service))
    if unit.state == "activating" and unit.said:
        seen = f"its service {unit.name} keeps failing and restarting: {unit.said}"
        return Cause(seen, "its server does not start", _to_start(unit, service))
    if unit.state == "activating":
        return Cause(f"its service {unit.name} is starting", "its server is not ready yet",
                     Advice(words=f"to see its progress: systemctl status {unit.name}"))  # fmt: skip
    if unit.state == "masked":
        command = f"systemctl unmask {unit.name} && systemctl enable --now {unit.name}"
        return Cause(f"its service {unit.name} is masked", "its server cannot be started", Advice(command))
    if unit.state == "active":
        return None
    command = f"systemctl enable --now {unit.name}"
    return Cause(f"its service {unit.name} is {unit.state}", "its server is stopped", Advice(command))


def _to_start(unit: Unit, service: str) -> Advice:
    if service == "ssh":
        return Advice(words=f"sshd -t names the error; once fixed: systemctl restart {unit.name}")
    return Advice(words=f"systemctl status {unit.name} shows why; once fixed: systemctl restart {unit.name}")


def why_mute(inside: Inside | None, service: str, port: int, *, other: bool = False) -> Cause | None:
    """Why a port that accepts connections does not speak its protocol; with `other`, it was heard to speak another."""
    here = next((x for x in inside.listeners if x.port == port and x.program), None) if inside else None
    if inside is None or here is None:
        return None
    if other or not here.is_for(service):
        words = f"end {here.program}, or move it to another port; then start the server for {service}"
        return Cause(f"{here.who} has the port", f"it is not a server for {service}", Advice(words=words))
    if here.state == "T":
        command = f"kill -CONT {here.pid}"
        return Cause(
            f"{here.program} has the port, but its process {here.pid} is stopped",
            "it received a stop signal",
            Advice(command),
        )
    if inside.log:
        return Cause(f"{here.who} has the port", f"its server's log: {inside.log}", SERVER_LOG)
    means = "one of: the guest is too busy; its server hangs; it does not admit this host, and is slow to say so"
    if here.starts and (failed := _not_starting(inside)):
        return failed
    return Cause(f"{here.who} has the port", means, BUSY, proved=False)


# What an SSH server means that admits nobody: it says so in the same words for both.
TURNED_AWAY = (
    "it has too many clients that have not logged in (MaxStartups); it refuses this address for a while, after failed "
    "logins (PerSourcePenalties)"
)


def why_closing(inside: Inside | None, service: str, port: int) -> Cause | None:
    """Why a port closes each connection at once; None if the guest does not report that a program has it."""
    if inside is None or not serves(inside, port):
        return None
    here = next(x for x in inside.listeners if x.port == port)
    who = here.who or "its server"
    if here.program and not here.is_for(service):
        return why_mute(inside, service, port)
    if inside.log:
        return Cause(f"{who} has the port", f"its server's log: {inside.log}", SERVER_LOG)
    if here.starts and (failed := _not_starting(inside)):
        return failed
    rules = "/etc/hosts.deny, or its own rules" if service == "ssh" else "its own rules"
    means = (
        f"one of: its server refuses this host ({rules}); it has too many clients, or restarts; it cannot start a "
        f"process for the connection{'; it speaks TLS only (https)' if service == 'http' else ''}"
    )
    log = SERVER_LOG if service == "ssh" or not here.pid else Advice(f"journalctl _PID={here.pid} -n 20 --no-pager")
    return Cause(f"{who} has the port", means, log, proved=False)


def _not_starting(inside: Inside) -> Cause | None:
    """The service that systemd starts for a connection, if it failed."""
    failed = next((u for u in inside.units if u.state == "failed"), None)
    if failed is None:
        return None
    said = f": {failed.said}" if failed.said else ""
    return Cause(
        f"systemd has the port, and its service {failed.name} failed{said}", "no server starts for a connection",
        _to_start(failed, "ssh" if failed.name in UNITS["ssh"] else ""),
    )  # fmt: skip


def serves(inside: Inside, port: int) -> bool:
    """True if the guest reports a program that has this port for IPv4 clients."""
    return any(x.port == port and not x.on_loopback and not x.by_ipv6_alone for x in inside.listeners)
