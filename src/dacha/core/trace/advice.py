"""What to do in a guest: a command for its administrator's shell, or words where no one command does it.

How it is said depends on how the guest can be told: where its agent runs commands, one line on this host does it.
"""

from __future__ import annotations

import shlex

from dacha.core.named import NamedTuple


class Advice(NamedTuple):
    """A `command` that mends it, typed as the administrator; or `words`, where no one command does."""

    command: str = ""
    words: str = ""

    def said(self, guest: str, *, by_agent: bool) -> str:
        """The remedy as it is printed."""
        if not self.command:
            return f"dacha console {guest}, then: {self.words}"
        if by_agent:
            return f"dacha connect {guest} --by agent -- {shlex.quote(self.command)}"
        return f"dacha console {guest}, then as root: {self.command}"


# Service → family → what to do there. "linux" stands for every family of that kind not named.
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
        "windows": Advice(words="Settings, System, Remote Desktop: on   (Home editions have none)"),
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
    "linux": "let TCP port {port} in: sudo nft list ruleset shows what stops it",
}
_LINUX = ("alpine", "debian", "fedora", "linux", "ubuntu")


def to_serve(service: str, system: str) -> Advice:
    """How to get a service running in a guest of this family."""
    known = _SERVE.get(service, {})
    found = known.get(system) or (known.get("linux") if system in (*_LINUX, "other") else None)
    return found or Advice(words=f"start the program that serves {service} there")


def to_admit(port: int, system: str) -> Advice:
    """How to let a port through the firewall of a guest of this family, of which nothing more is known."""
    return Advice(words=(_ADMIT.get(system) or _ADMIT["linux"]).format(port=port))


def to_protect(system: str) -> Advice:
    """How to let an RDP server take protected connections only."""
    if system == "windows":
        return Advice(words="Settings, System, Remote Desktop: require Network Level Authentication")
    command = "sed -i 's/^security_layer=.*/security_layer=tls/' /etc/xrdp/xrdp.ini && systemctl restart xrdp"
    return Advice(command if system in ("debian", "ubuntu", "fedora") else "", f"with xrdp, as root: {command}")
