"""Shared folders against this host: whether each exists, its owner, and whether it may be shared."""

from __future__ import annotations

import os
import pwd
import stat
from collections.abc import Iterator
from typing import TYPE_CHECKING

from dacha.core.apply.machine import Machine
from dacha.core.errors import HostError
from dacha.core.findings import ERROR, NOTE, WARNING, Finding
from dacha.core.lab.model import Guest, Share
from dacha.core.plan.shares import why_dangerous, within
from dacha.engine.workspace import Workspace
from dacha.host import folders

if TYPE_CHECKING:
    from dacha.hypervisor.beside.shares import Opened

INSIST = "share a folder below it, or confirm with anyway = true in the share (--anyway)"
READ_ONLY = "share it with read-only = true (--read-only), or confirm with anyway = true (--anyway)"


def holds_lab_file(ws: Workspace, folder: str) -> bool:
    """True if the lab file is in this folder: a guest that can write there could change what the next apply does."""
    return within(str(ws.path.resolve()), str(ws.resolve(folder).resolve()))


def danger(ws: Workspace, share: Share, folder: str) -> str:
    """Why a folder (its real path) must not be shared; "" if it may be, or the lab file confirms it."""
    if share.anyway:
        return ""
    homes = {entry.pw_dir for entry in pwd.getpwall()} - {""}
    own = (folders.state(), folders.shared(), folders.run())
    if why := why_dangerous(folder, sorted(homes), [str(p.resolve()) for p in own]):
        return why
    if holds_lab_file(ws, folder) and not share.read_only:
        return f"{ws.path.name} is in it: the guest could change what the next apply does on this host"
    keys = [k for g in ws.lab.guests.values() if g.login for k in g.login.keys if k.endswith(".pub")]
    for private in (ws.resolve(k.removesuffix(".pub")).resolve() for k in keys):
        if private.is_file() and within(str(private), folder):
            return f"the private key {private.name} is in it"
    return ""


def refuse_danger(ws: Workspace, guest: Guest, m: Machine) -> dict[str, Opened]:
    """Examine each folder that a machine shares at this moment: its path may lead elsewhere since it was checked.
    Raises HostError for one that exposes this host, or does not exist."""
    from dacha.hypervisor.beside.shares import look

    told, found = {s.name: s for s in guest.shares}, {}
    for share in m["shares"]:
        name = share["name"]
        found[name] = opened = look(share)
        if why := danger(ws, told.get(name) or Share(name, opened.path, ""), opened.path):
            raise HostError(f"folder {opened.path} of share {name} is refused", why=why, remedy=INSIST)
    return found


def findings(ws: Workspace, guest: Guest) -> Iterator[Finding]:
    """Problems of a guest's shared folders."""
    for share in guest.shares:
        about, path = f"share {guest.name} {share.name}", ("guest", guest.name, "share", share.name)
        folder = ws.resolve(share.folder)
        try:
            seen = folder.stat()
        except OSError as e:
            what, remedy = f"folder {folder}: {e.strerror or e}", f"create it: mkdir {folder}"
            yield Finding(ERROR, "share-folder", about, what, remedy, (*path, "folder"), "host")
            continue
        if not stat.S_ISDIR(seen.st_mode):
            yield Finding(ERROR, "share-folder", about, f"{folder} is not a folder", "", (*path, "folder"), "host")
            continue
        if why := danger(ws, share, str(folder.resolve())):
            what = f"{folder} is refused: {why}"
            readable = not danger(ws, share._replace(read_only=True), str(folder.resolve()))
            remedy = READ_ONLY if readable else INSIST
            yield Finding(ERROR, "share-danger", about, what, remedy, (*path, "folder"), "host")
        if os.geteuid() != 0 and seen.st_uid != os.geteuid() and not share.read_only:
            who = _name(seen.st_uid)
            what = f"{folder} belongs to {who}: the guest can change only what every user can change"
            yield Finding(WARNING, "share-owner", about, what, f"chown -R {_name(os.geteuid())} {folder}", path, "host")
    if guest.system == "windows" and any(not s.by_smb for s in guest.shares):
        what = "its system does not mount shares by itself: it needs a driver and a service for virtio-fs"
        remedy = f'by = "smb" in the share: dacha share edit {guest.name} {guest.shares[0].name} --by smb'
        yield Finding(
            NOTE, "share-windows", f"guest {guest.name}", what, remedy, ("guest", guest.name, "share"), "host"
        )


def daemon_findings(ws: Workspace) -> list[Finding]:
    """A lab with shared folders on a host without the daemon."""
    names = [g.name for g in ws.lab.guests.values() if any(not s.by_smb for s in g.shares)]
    if not names:
        return []
    from dacha.hypervisor.beside.shares import find

    if find():
        return []
    what = f"virtiofsd is not installed: it serves shared folders ({', '.join(names)})"
    first = next((g.name, s.name) for g in ws.lab.guests.values() for s in g.shares if not s.by_smb)
    remedy = (
        "on Debian: apt install qemu-system-common (12), virtiofsd (13 and later)\n"
        f"or over a kernel network: dacha share edit {' '.join(first)} --by smb"
    )
    return [Finding(ERROR, "share-daemon", "this host", what, remedy, (), "host")]


def _name(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)
