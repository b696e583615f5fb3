"""How a guest mounts a folder that it is served by SMB (mount.cifs(8); the SMB commands of PowerShell)."""

from __future__ import annotations

import shlex

from dacha.core.apply.first_boot import FirstBootShare
from dacha.core.plan.smb import USER

# The name and password that the guest's mounts are made with, for its root alone.
CREDENTIALS = "/etc/dacha-shares"
VERSION = "3.1.1"


def credentials(password: str) -> str:
    """The contents of that file."""
    return f"username={USER}\npassword={password}\n"


def line(share: FirstBootShare, system: str) -> str:
    """The share's line of fstab(5). A guest boots without it too; where systemd mounts, it does so when somebody looks
    into it (systemd.mount(5)): at boot the network, or its server, may not be there yet."""
    owner, may = share.get("owner", 1000), "ro" if share["read_only"] else "rw"
    later = "" if system == "alpine" else ",x-systemd.automount"
    options = f"{may},nofail,_netdev{later},credentials={CREDENTIALS},uid={owner},gid={owner},vers={VERSION},serverino"
    return f"//{share['server']}/{share['name']} {share['at']} cifs {options} 0 0"


def linux(share: FirstBootShare, system: str) -> list[str]:
    """Commands of a Linux guest's root: the line is put into fstab once. What mounts it may come later."""
    told = line(share, system)
    place = shlex.quote(told.rpartition(" cifs ")[0] + " ")
    return [
        f"mkdir -p {share['at']}",
        f"grep -qF {place} /etc/fstab || echo '{told}' >> /etc/fstab",
    ]


def windows(share: FirstBootShare, password: str) -> str:
    """One command of a Windows guest's administrator: the folder has its letter for everybody there, from now on."""
    made = f"ConvertTo-SecureString '{password}' -AsPlainText -Force"
    who = f"New-Object System.Management.Automation.PSCredential('{USER}',({made}))"
    where = f"-RemotePath '\\\\{share['server']}\\{share['name']}' -LocalPath '{share['at']}'"
    return f'powershell -NoProfile -Command "New-SmbGlobalMapping {where} -Credential ({who}) -Persistent $true"'
