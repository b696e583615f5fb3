"""What to do in a guest: a command for an administrator's shell, or words if no single command does it.

The wording depends on how the user gets into the guest: if its agent runs commands, one line on this host is enough.
"""

from __future__ import annotations

import shlex

from dacha.core.lab.families import FAMILIES, enable_command, family_of, install_command
from dacha.core.named import NamedTuple
from dacha.core.network.firewall.iptables import LEGACY, program_of
from dacha.core.network.firewall.openings import FIREWALLD, IPTABLES, UFW
from dacha.core.trace.seen.evidence import AGENT, AS_ROOT, BY_DOAS, LOGIN, NOBODY, PASSWORD, UNPRIVILEGED
from dacha.core.trace.seen.own_rules import Blocked

# What a login runs commands as root with.
_RAISED = {LOGIN: "sudo", BY_DOAS: "doas"}


class Advice(NamedTuple):
    """A `command` that fixes the problem, run as administrator; or `words`, if no single command does."""

    command: str = ""
    words: str = ""

    def said(self, guest: str, by: str) -> str:
        """The remedy as it is printed, for a user who gets in by that means."""
        if by == AGENT and self.command:
            return f"dacha connect {guest} --by agent -- {shlex.quote(self.command)}"
        if by == AS_ROOT and self.command:
            return f"dacha connect {guest} -- {shlex.quote(self.command)}"
        if by in _RAISED and self.command:
            plain = self.command if not set(self.command) & set("&|;<>") else f"sh -c {shlex.quote(self.command)}"
            return f"dacha connect {guest} -- {shlex.quote(f'{_RAISED[by]} {plain}')}"
        if by == UNPRIVILEGED and self.command:
            return f"dacha connect {guest}, then as root (its user has no sudo): {self.command}"
        if by in (*_RAISED, AS_ROOT, UNPRIVILEGED):
            return f"dacha connect {guest}, then: {self.words}"
        if by == AGENT:
            return f"in {guest}: {self.words}\nto run a command there: dacha connect {guest} --by agent -- COMMAND"
        what = f"as root: {self.command}" if self.command else self.words
        if by == NOBODY:
            return f"in {guest}, {what}\n{no_way_in(guest)}"
        how = " (log in with the password)" if by == PASSWORD else ""
        return f"dacha console {guest}{how}, then{'' if self.command else ':'} {what}"


def no_way_in(guest: str) -> str:
    """What to do if nobody can log in to the guest, and no agent answers."""
    return (
        f"no way into {guest} is known: its agent does not answer, and nobody has a password for its console "
        f"(dacha guest password {guest}, dacha guest first-boot {guest} --again and dacha restart {guest} set one)"
    )


# Service → system → what to do there, where no command does it; "linux" stands for every Linux.
_BY_HAND = {
    "ssh": {
        "windows": "Start-Service sshd; Set-Service sshd -StartupType Automatic   (in PowerShell, as administrator)",
        "linux": "start its SSH server, and let it start at boot: systemctl enable --now sshd",
    },
    "rdp": {
        "windows": "Settings, System, Remote Desktop: on   (not in Home editions)",
        "linux": "install and start a remote desktop server, such as xrdp",
    },
}
_ADMIT = "allow TCP port {port} in its firewall: sudo nft list ruleset shows the rules"


def _command(service: str, system: str) -> str:
    """The command that installs and starts a service; "" if that is not known."""
    family = FAMILIES.get(system)
    if family is None or not family.manager:
        return ""
    if service == "ssh":
        install = install_command(system, family.ssh_package) if family.ssh_package else ""
        return " && ".join(filter(None, (install, enable_command(system, family.ssh_service))))
    if service == "rdp" and family.whole_setup:
        return f"{install_command(system, 'xrdp')} && {enable_command(system, 'xrdp')}"
    return ""


def to_serve(service: str, system: str) -> Advice:
    """How to install and start a service in a guest of this family: for a guest that reported to have none."""
    if command := _command(service, system):
        return Advice(command)
    known = _BY_HAND.get(service, {})
    by_hand = known.get(system) or (known.get("linux") if system == "other" or family_of(system).linux else None)
    return Advice(words=by_hand or f"start the program that serves {service} there")


# Service → family → units to check, for a guest whose state is not known.
_LOOK = {"ssh": "ssh sshd", "rdp": "xrdp", "http": "nginx apache2", "https": "nginx apache2"}


def to_look(service: str, system: str, *, unmanaged: bool = False) -> Advice:
    """How to find out why no program serves it, if nothing more is known: changes nothing. `unmanaged` if the guest
    reported that systemd does not manage its services."""
    if system == "windows" or service not in _LOOK:
        return to_serve(service, system)
    if family_of(system).services in ("openrc", "rc"):
        return Advice(f"service {_LOOK[service].split()[-1]} status")
    if unmanaged:
        return Advice(words=f"start the program that serves {service} there (the guest has no systemd)")
    return Advice(f"systemctl status --no-pager {_LOOK[service]}")


# The server's last words about logins, and what uses the guest's CPU.
SERVER_LOG = Advice("journalctl -t sshd -t sshd-session -n 20 --no-pager")
BUSY = Advice("top -b -n 1 | head -n 15")
# The rules of the guest's own firewall.
RULES_THERE = Advice("nft list ruleset")


def to_find(port: int) -> Advice:
    """How to see which program has a port."""
    return Advice(f"ss -ltnp | grep :{port}")


def to_admit(port: int, system: str) -> Advice:
    """How to allow a port in the firewall of a guest of this family, if nothing more is known."""
    return Advice(words=(family_of(system).open_port or _ADMIT).format(port=port))


def to_let_pass(blocked: Blocked, port: int, *, out: bool = False) -> Advice:
    """How to allow connections to a port, coming in or going out, before the rule that drops them, with the manager of
    the guest's rules."""
    if blocked.owner == FIREWALLD:
        if out:
            return Advice(words=f"allow TCP port {port} in its output policy: firewall-cmd --list-all-policies")
        return Advice(f"firewall-cmd --permanent --add-port={port}/tcp && firewall-cmd --reload")
    if blocked.owner == UFW:
        return Advice(f"ufw allow {'out ' if out else ''}{port}/tcp")
    if not blocked.chain:
        return RULES_THERE
    if blocked.owner in (IPTABLES, LEGACY):
        program = program_of(blocked.family, blocked.owner)
        return Advice(f"{program} -t {blocked.table} -I {blocked.chain} -p tcp --dport {port} -j ACCEPT")
    # Inserted before all others of that chain; it also takes precedence over a policy.
    return Advice(f"nft insert rule {blocked.family} {blocked.table} {blocked.chain} tcp dport {port} accept")


def to_see_shaping(shaped: str) -> str:
    """The commands that show another program's traffic control ("KIND on LINK") on this host."""
    link = shaped.rpartition(" ")[2]
    return f"tc qdisc show dev {link}\ntc filter show dev {link} egress shows its filters, and the same with ingress"


def to_protect(system: str) -> Advice:
    """How to require encrypted connections in an RDP server."""
    if system == "windows":
        return Advice(words="Settings, System, Remote Desktop: require Network Level Authentication")
    command = "sed -i 's/^security_layer=.*/security_layer=tls/' /etc/xrdp/xrdp.ini && systemctl restart xrdp"
    return Advice(command if family_of(system).whole_setup else "", f"with xrdp, as root: {command}")
