"""How a guest mounts an SMB share (mount.cifs(8); the SMB commands of PowerShell)."""

from __future__ import annotations

import shlex

from dacha.core.apply.first_boot import FirstBootShare
from dacha.core.lab.families import family_of
from dacha.core.plan.smb import USER

# The credentials for the guest's mounts, readable by its root only.
CREDENTIALS = "/etc/dacha-shares"
VERSION = "3.1.1"


def credentials(password: str) -> str:
    """The contents of that file."""
    return f"username={USER}\npassword={password}\n"


def line(share: FirstBootShare, system: str) -> str:
    """The share's line in fstab(5). A guest also boots without it; systemd mounts it on first access
    (systemd.mount(5)), because the network or its server may not be up at boot."""
    owner, may = share.get("owner", 1000), "ro" if share["read_only"] else "rw"
    later = ",x-systemd.automount" if family_of(system).services == "systemd" else ""
    options = f"{may},nofail,_netdev{later},credentials={CREDENTIALS},uid={owner},gid={owner},vers={VERSION},serverino"
    return f"//{share['server']}/{share['name']} {share['at']} cifs {options} 0 0"


def linux(share: FirstBootShare, system: str) -> list[str]:
    """Commands for root of a Linux guest: add the line to fstab once. The mount program may be installed later."""
    told = line(share, system)
    place = shlex.quote(told.rpartition(" cifs ")[0] + " ")
    return [
        f"mkdir -p {share['at']}",
        f"grep -qF {place} /etc/fstab || echo '{told}' >> /etc/fstab",
    ]


def windows(share: FirstBootShare, password: str) -> str:
    """A command for an administrator of a Windows guest: map the folder to its drive letter for all users,
    permanently."""
    made = f"ConvertTo-SecureString '{password}' -AsPlainText -Force"
    who = f"New-Object System.Management.Automation.PSCredential('{USER}',({made}))"
    where = f"-RemotePath '\\\\{share['server']}\\{share['name']}' -LocalPath '{share['at']}'"
    return f'powershell -NoProfile -Command "New-SmbGlobalMapping {where} -Credential ({who}) -Persistent $true"'
