"""What to do in a guest: a command for an administrator's shell, or words if no single command does it.

The wording depends on how the user gets into the guest: if its agent runs commands, one line on this host is enough.
"""

from __future__ import annotations

import shlex

from dacha.core.named import NamedTuple
from dacha.core.trace.seen.evidence import AGENT, LOGIN, NOBODY, PASSWORD


class Advice(NamedTuple):
    """A `command` that fixes the problem, run as administrator; or `words`, if no single command does."""

    command: str = ""
    words: str = ""

    def said(self, guest: str, by: str) -> str:
        """The remedy as it is printed, for a user who gets in by that means."""
        if by == AGENT and self.command:
            return f"dacha connect {guest} --by agent -- {shlex.quote(self.command)}"
        if by == LOGIN and self.command:
            plain = self.command if not set(self.command) & set("&|;<>") else f"sh -c {shlex.quote(self.command)}"
            return f"dacha connect {guest} -- {shlex.quote(f'sudo {plain}')}"
        if by == LOGIN:
            return f"dacha connect {guest}, then: {self.words}"
        what = f"as root: {self.command}" if self.command else self.words
        if by == NOBODY:
            return f"in {guest}, {what}\n{no_way_in(guest)}"
        how = " (log in with the password)" if by == PASSWORD else ""
        return f"dacha console {guest}{how}, then{'' if self.command else ':'} {what}"


def no_way_in(guest: str) -> str:
    """How to get a means of access to the guest, if there is none."""
    return (
        f"no way into {guest} is known: its agent does not answer, and nobody has a password for its console "
        f"(dacha guest password {guest}, dacha guest first-boot {guest} --again and dacha restart {guest} set one)"
    )


# Service → family → what to do there. "linux" stands for every Linux family that is not listed.
_SERVE = {
    "ssh": {
        "debian": Advice("apt-get install -y openssh-server && systemctl enable --now ssh"),
        "ubuntu": Advice("apt-get install -y openssh-server && systemctl enable --now ssh"),
        "fedora": Advice("dnf install -y openssh-server && systemctl enable --now sshd"),
        "alpine": Advice("apk add openssh-server && rc-update add sshd && service sshd start"),
        "bsd": Advice("service sshd enable && service sshd start"),
        "windows": Advice(
            words="Start-Service sshd; Set-Service sshd -StartupType Automatic   (in PowerShell, as administrator)"
        ),
        "linux": Advice(words="start its SSH server, and let it start at boot: systemctl enable --now sshd"),
    },
    "rdp": {
        "windows": Advice(words="Settings, System, Remote Desktop: on   (not in Home editions)"),
        "debian": Advice("apt-get install -y xrdp && systemctl enable --now xrdp"),
        "ubuntu": Advice("apt-get install -y xrdp && systemctl enable --now xrdp"),
        "fedora": Advice("dnf install -y xrdp && systemctl enable --now xrdp"),
        "linux": Advice(words="install and start a remote desktop server, such as xrdp"),
    },
}
_ADMIT = {
    "windows": "New-NetFirewallRule -DisplayName lab -Direction Inbound -Protocol TCP -LocalPort {port} -Action Allow",
    "fedora": "sudo firewall-cmd --permanent --add-port={port}/tcp && sudo firewall-cmd --reload",
    "ubuntu": "sudo ufw allow {port}/tcp",
    "linux": "allow TCP port {port} in its firewall: sudo nft list ruleset shows the rules",
}
_LINUX = ("alpine", "debian", "fedora", "linux", "ubuntu")


def to_serve(service: str, system: str) -> Advice:
    """How to install and start a service in a guest of this family: for a guest that reported to have none."""
    known = _SERVE.get(service, {})
    found = known.get(system) or (known.get("linux") if system in (*_LINUX, "other") else None)
    return found or Advice(words=f"start the program that serves {service} there")


# Service → family → units to check, for a guest whose state is not known.
_LOOK = {"ssh": "ssh sshd", "rdp": "xrdp", "http": "nginx apache2", "https": "nginx apache2"}


def to_look(service: str, system: str) -> Advice:
    """How to find out why no program serves it, if nothing more is known: changes nothing."""
    if system == "windows" or service not in _LOOK:
        return to_serve(service, system)
    if system in ("alpine", "bsd"):
        return Advice(words=f"see whether its server runs: service {_LOOK[service].split()[-1]} status")
    return Advice(words=f"see whether its server runs: systemctl status {_LOOK[service]}")


def to_admit(port: int, system: str) -> Advice:
    """How to allow a port in the firewall of a guest of this family, if nothing more is known."""
    return Advice(words=(_ADMIT.get(system) or _ADMIT["linux"]).format(port=port))


def to_protect(system: str) -> Advice:
    """How to require encrypted connections in an RDP server."""
    if system == "windows":
        return Advice(words="Settings, System, Remote Desktop: require Network Level Authentication")
    command = "sed -i 's/^security_layer=.*/security_layer=tls/' /etc/xrdp/xrdp.ini && systemctl restart xrdp"
    return Advice(command if system in ("debian", "ubuntu", "fedora") else "", f"with xrdp, as root: {command}")
