"""Operating system families: one row each with the package manager, services and installer. Whatever depends on the
family of a guest's system is derived from its row; an installer's texts and file formats have modules of their own
(`formats/answers`)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from typing import Literal

    Manager = Literal["apt", "dnf", "apk", "pkg", ""]
    Services = Literal["systemd", "openrc", "rc", ""]


class Family(NamedTuple):
    """What is known of a family: its package `manager`, its service manager, the package and the service of its SSH
    server, the login shell that it always has, the packages with which it mounts shares by SMB and sets its clock (if
    its installer installs none), the command that opens a port in the firewall that it comes with. `whole_setup` is
    true if every part of a setup is known: automatic updates, remote desktop, package sources."""

    manager: Manager = ""
    services: Services = "systemd"
    ssh_package: str = ""
    ssh_service: str = "sshd"
    shell: str = ""
    smb_helper: str = ""
    clock: str = ""
    open_port: str = ""
    whole_setup: bool = False
    linux: bool = True


FAMILIES: dict[str, Family] = {
    "alpine": Family(
        manager="apk", services="openrc", ssh_package="openssh-server", smb_helper="cifs-utils",
    ),
    "bsd": Family(manager="pkg", services="rc", linux=False),
    "debian": Family(
        manager="apt", ssh_package="openssh-server", ssh_service="ssh", shell="/bin/bash", smb_helper="cifs-utils",
        clock="systemd-timesyncd", whole_setup=True,
    ),
    "fedora": Family(
        manager="dnf", ssh_package="openssh-server", shell="/bin/bash", smb_helper="cifs-utils", clock="chrony",
        open_port="sudo firewall-cmd --permanent --add-port={port}/tcp && sudo firewall-cmd --reload",
        whole_setup=True,
    ),
    # Any Linux that is not listed.
    "linux": Family(),
    "other": Family(services="", linux=False),
    "ubuntu": Family(
        manager="apt", ssh_package="openssh-server", ssh_service="ssh", shell="/bin/bash", smb_helper="cifs-utils",
        open_port="sudo ufw allow {port}/tcp", whole_setup=True,
    ),
    "windows": Family(
        services="", linux=False,
        open_port="New-NetFirewallRule -DisplayName lab -Direction Inbound -Protocol TCP -LocalPort {port} "
        "-Action Allow",
    ),
}  # fmt: skip
# How packages are installed, by the package manager; and how a service is started now and at every boot.
INSTALL: dict[str, str] = {
    "apt": "apt-get install -y {}", "dnf": "dnf install -y {}", "apk": "apk add {}", "pkg": "pkg install -y {}",
}  # fmt: skip
ENABLE: dict[str, str] = {
    "systemd": "systemctl enable --now {0}",
    "openrc": "rc-update add {0} && rc-service {0} start",
    "rc": "sysrc {0}_enable=YES && service {0} start",
}


def family_of(system: str) -> Family:
    """The family of a guest's system; that of any Linux for one that is not known."""
    return FAMILIES.get(system) or FAMILIES["linux"]


def whole_setups() -> dict[str, str]:
    """The package managers of the families whose setup is known in every part."""
    return {name: family.manager for name, family in FAMILIES.items() if family.whole_setup}


def install_command(system: str, packages: str) -> str:
    """How packages are installed there; "" if that is not known."""
    manager = family_of(system).manager
    return INSTALL[manager].format(packages) if manager else ""


def enable_command(system: str, service: str) -> str:
    """How a service is started there, now and at every boot."""
    return ENABLE[family_of(system).services or "systemd"].format(service)
