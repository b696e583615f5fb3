"""What to do in a guest, by its system's family, so that a service runs there."""

from __future__ import annotations

# Service → family → the command to type in the guest. "linux" stands for every family of that kind not named.
_COMMANDS = {
    "ssh": {
        "debian": "sudo apt install openssh-server && sudo systemctl enable --now ssh",
        "ubuntu": "sudo apt install openssh-server && sudo systemctl enable --now ssh",
        "fedora": "sudo dnf install openssh-server && sudo systemctl enable --now sshd",
        "alpine": "apk add openssh-server && rc-update add sshd && service sshd start",
        "bsd": "service sshd enable && service sshd start",
        "windows": "Start-Service sshd; Set-Service sshd -StartupType Automatic   (in PowerShell, as administrator)",
        "linux": "start its SSH server, and let it start at boot: systemctl enable --now sshd",
    },
    "rdp": {
        "windows": "Settings, System, Remote Desktop: on   (Home editions have none)",
        "debian": "sudo apt install xrdp && sudo systemctl enable --now xrdp",
        "ubuntu": "sudo apt install xrdp && sudo systemctl enable --now xrdp",
        "fedora": "sudo dnf install xrdp && sudo systemctl enable --now xrdp",
        "linux": "install and start a remote desktop server, such as xrdp",
    },
}
_FIREWALLS = {
    "windows": "New-NetFirewallRule -DisplayName lab -Direction Inbound -Protocol TCP -LocalPort {port} -Action Allow",
    "fedora": "sudo firewall-cmd --permanent --add-port={port}/tcp && sudo firewall-cmd --reload",
    "ubuntu": "sudo ufw allow {port}/tcp",
    "linux": "let TCP port {port} in: sudo nft list ruleset shows what stops it",
}
_LINUX = ("alpine", "debian", "fedora", "linux", "ubuntu")


def to_serve(service: str, system: str) -> str:
    """How to get a service running in a guest of this family."""
    known = _COMMANDS.get(service, {})
    found = known.get(system) or (known.get("linux") if system in (*_LINUX, "other") else None)
    return found or f"start the program that serves {service} there"


def to_admit(port: int, system: str) -> str:
    """How to let a port through the firewall of a guest of this family."""
    text = _FIREWALLS.get(system) or _FIREWALLS["linux"]
    return text.format(port=port)


def to_protect(system: str) -> str:
    """How to let an RDP server take protected connections only."""
    if system == "windows":
        return "Settings, System, Remote Desktop: require Network Level Authentication"
    return "in /etc/xrdp/xrdp.ini set security_layer=tls, and restart xrdp"
