"""How a guest mounts a shared folder: the commands for a guest whose first-boot data did not contain it."""

from __future__ import annotations

from dacha.core.apply.first_boot import FirstBootShare
from dacha.core.errors import UsageError
from dacha.core.lab.families import family_of, install_command
from dacha.core.lab.model import Guest, Share
from dacha.core.named import NamedTuple
from dacha.core.plan.smb import USER, smb_place
from dacha.engine.shares.smb import password
from dacha.engine.workspace import Workspace

# Drive letters that no system assigns by itself, in the order of preference.
LETTERS = "TUVWXYZSRQPONMLKJIHG"
HIDDEN = "PASSWORD"
BY_ROOT = "In the guest, as root (the first boot does this automatically):"


class Mounting(NamedTuple):
    """The server of a share by SMB, where to run the commands, and the commands."""

    server: str | None
    where: str
    commands: tuple[str, ...]


def mount_place(guest: Guest, name: str) -> str:
    """The default mount point of a new share in the guest."""
    if guest.system != "windows":
        return f"/srv/{name}"
    taken = {share.at for share in guest.shares}
    return next((f"{letter}:" for letter in LETTERS if f"{letter}:" not in taken), f"/srv/{name}")


def mounting(ws: Workspace, guest: Guest, share: Share, *, secret: bool) -> Mounting:
    """The commands for a guest's administrator; without `secret` the password is omitted. Raises UsageError."""
    told: FirstBootShare = {"name": share.name, "at": share.at, "read_only": share.read_only}
    if not share.by_smb:
        may = "-o ro " if share.read_only else ""
        plain = (f"mkdir -p {share.at}", f"mount -t virtiofs {may}{share.name} {share.at}")
        return Mounting(None, BY_ROOT, plain)
    from dacha.formats.shares import smb_mounts

    at = smb_place(ws.lab, ws.plan, guest)
    if at is None:
        what = f"{guest.name} has no network on which its SMB shares are available"
        raise UsageError(what, where=ws.path.name, remedy="dacha check shows which one it needs")
    told |= {"server": str(at.server), "owner": share.owner}
    word = password(ws.home, guest.name) if secret else HIDDEN
    if secret and not word:
        raise UsageError(f"{guest.name} has no password for its shares yet", remedy="dacha apply creates one")
    server = f"\\\\{at.server}\\{share.name}, as {USER}, on {at.network}"
    if guest.system == "windows":
        return Mounting(server, "In the guest, as administrator:", (smb_mounts.windows(told, word),))
    helper = family_of(guest.system).smb_helper
    commands = (
        *([install_command(guest.system, helper)] if helper else []),
        f"(umask 077; printf 'username={USER}\\npassword={word}\\n' > {smb_mounts.CREDENTIALS})",
        *smb_mounts.linux(told, guest.system),
        f"mount {share.at}",
    )
    return Mounting(server, BY_ROOT, commands)
