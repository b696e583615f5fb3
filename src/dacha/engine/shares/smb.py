"""A guest's SMB shares: its password, and the data for a server of one connection."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.findings import ERROR, NOTE, Finding
from dacha.core.lab.families import family_of
from dacha.core.lab.model import Guest
from dacha.core.plan.smb import PORT, smb_place
from dacha.engine.home import Home
from dacha.engine.shares.shared_folders import INSIST, danger
from dacha.engine.workspace import Workspace
from dacha.host.facts import program
from dacha.host.files import replace_file

SERVER = "smbd"
PACKAGE = "on Debian: apt install samba (its own service is not needed: systemctl disable --now smbd nmbd)"


def password(home: Home, guest: str) -> str:
    """The guest's password for its shares; "" if it has none yet."""
    try:
        return home.share_password(guest).read_text().strip()
    except OSError:
        return ""


def make_password(home: Home, guest: Guest) -> None:
    """Create the guest's password, if it has SMB shares and none yet."""
    if any(s.by_smb for s in guest.shares) and not password(home, guest.name):
        # Imported late: commands that only look at shares need no random source.
        import secrets

        replace_file(home.share_password(guest.name), f"{secrets.token_urlsafe(24)}\n", mode=0o600)


def server_for(ws: Workspace, guest: Guest) -> dict[str, object]:
    """The data for the server of a connection (`hypervisor.beside.smb_server`), with its files written: the folders as
    they are now. Raises HostError for one that exposes this host or does not exist, and without a server program."""
    from dacha.formats.shares import samba
    from dacha.host import folders
    from dacha.hypervisor.beside.shares import look
    from dacha.wire.md4 import password_hash

    server = program(SERVER)
    if server is None:
        raise HostError(f"{SERVER} is not installed", remedy=PACKAGE)
    told, owner = [], None
    shares = [s for s in guest.shares if s.by_smb]
    for share in shares:
        seen = look({"name": share.name, "folder": str(ws.resolve(share.folder)), "read_only": True, "owner": 0})
        if why := danger(ws, share, seen.path):
            raise HostError(f"folder {seen.path} of share {share.name} is refused", why=why, remedy=INSIST)
        owner = owner or (seen.uid, seen.gid)
        if owner[0] != seen.uid:
            raise HostError(f"folder {seen.path} belongs to another user than that of share {shares[0].name}")
        may = "ro" if share.read_only else "rw"
        told.append([share.name, seen.path, f"{seen.device}:{seen.number}", may])
    assert owner is not None
    settings = folders.make_private(ws.home.run(guest.name).with_name(f"{guest.name}.smb"))
    passwd, group = samba.users()
    files = {"smb.conf": samba.config((s.name, s.read_only) for s in shares), "passwd": passwd, "group": group,
             "smbpasswd": samba.account(password_hash(password(ws.home, guest.name)))}  # fmt: skip
    for name, text in files.items():
        replace_file(settings / name, text, mode=0o600)
    of = {"uid": owner[0], "gid": owner[1], "number": samba.NUMBER}
    return {"server": server, "settings": str(settings), "folders": told, **of}


# Section names of smb.conf(5) with a meaning of their own.
RESERVED = ("global", "homes", "printers")


def findings(ws: Workspace, guest: Guest) -> Iterator[Finding]:
    """What prevents a guest's SMB shares."""
    shares = [s for s in guest.shares if s.by_smb]
    if not shares:
        return
    about, path = f"guest {guest.name}", ("guest", guest.name, "share")
    if smb_place(ws.lab, ws.plan, guest) is None:
        what = "shares by SMB require a NAT or host-only kernel network with a planned IPv4 address"
        networks = [a.network for a in guest.adapters if a.network in ws.lab.networks]
        first = next((n for n in networks if ws.lab.networks[n].kind != "bridge"), "NAME")
        remedy = f'backend = "kernel" in [network.{first}], or by = "virtio-fs" in the share'
        yield Finding(ERROR, "share-smb-network", about, what, remedy, path, "host")
    for share in shares:
        if share.name.lower() in RESERVED:
            what = f"{share.name} is reserved in SMB servers for a section of their settings"
            remedy = f"choose another name, such as {share.name}-files"
            yield Finding(ERROR, "share-smb-name", about, what, remedy, (*path, share.name), "host")
    owners = {_owner(ws.resolve(s.folder)) for s in shares} - {None}
    if len(owners) > 1:
        what = "its shares by SMB belong to several owners, but the server runs as one user"
        yield Finding(
            ERROR, "share-smb-owners", about, what, "make one user the owner of all these folders: chown", path, "host"
        )
    if not family_of(guest.system).smb_helper and guest.system != "windows":
        what = f"the system {guest.system} does not mount it automatically"
        remedy = f"dacha share show {guest.name} {shares[0].name} shows the commands for the guest"
        yield Finding(NOTE, "share-smb-by-hand", about, what, remedy, path, "host")


def server_findings(ws: Workspace) -> list[Finding]:
    """A lab with SMB shares on a host without a server program."""
    names = [g.name for g in ws.lab.guests.values() if any(s.by_smb for s in g.shares)]
    if not names or program(SERVER):
        return []
    what = f"{SERVER} is not installed: it serves shared folders by SMB ({', '.join(names)}), at port {PORT}"
    return [Finding(ERROR, "share-daemon", "this host", what, PACKAGE, (), "host")]


def _owner(folder: Path) -> int | None:
    try:
        return folder.stat().st_uid
    except OSError:
        return None
