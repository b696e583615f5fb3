"""Shared folders against this host: whether each is there, whose it is, and whether it may be shared at all."""

from __future__ import annotations

import os
import pwd
import stat
from collections.abc import Iterator
from pathlib import Path

from dacha.core.apply.machine import Machine
from dacha.core.errors import HostError
from dacha.core.findings import ERROR, NOTE, WARNING, Finding
from dacha.core.lab.model import Guest, Share
from dacha.core.plan.shares import why_dangerous
from dacha.engine.workspace import Workspace
from dacha.host import folders

INSIST = "share a folder in it, or insist: anyway = true in its share (--anyway)"


def danger(share: Share, folder: str) -> str:
    """Why a folder (its real path) is not to be shared; "" where it may be, or the lab insists on it."""
    if share.anyway:
        return ""
    homes = {entry.pw_dir for entry in pwd.getpwall()} - {""}
    own = (folders.state(), folders.shared(), folders.run())
    return why_dangerous(folder, sorted(homes), [str(p.resolve()) for p in own])


def refuse_danger(guest: Guest, m: Machine) -> None:
    """Raise HostError for a folder that gives this host away: where its path leads may have changed since it was
    checked."""
    insisted = {s.name for s in guest.shares if s.anyway}
    for share in m["shares"]:
        name, folder = share["name"], str(Path(share["folder"]).resolve())
        why = "" if name in insisted else danger(Share(name, folder, ""), folder)
        if why:
            raise HostError(f"folder {folder} of share {name} is not shared", why=why, remedy=INSIST)


def findings(ws: Workspace, guest: Guest) -> Iterator[Finding]:
    """What is wrong with a guest's shared folders."""
    for share in guest.shares:
        about, path = f"share {guest.name} {share.name}", ("guest", guest.name, "share", share.name)
        folder = ws.resolve(share.folder)
        try:
            seen = folder.stat()
        except OSError as e:
            what, remedy = f"folder {folder}: {e.strerror or e}", f"make it: mkdir {folder}"
            yield Finding(ERROR, "share-folder", about, what, remedy, (*path, "folder"), "host")
            continue
        if not stat.S_ISDIR(seen.st_mode):
            yield Finding(ERROR, "share-folder", about, f"{folder} is no folder", "", (*path, "folder"), "host")
            continue
        if why := danger(share, str(folder.resolve())):
            what = f"{folder} is not shared: {why}"
            yield Finding(ERROR, "share-danger", about, what, INSIST, (*path, "folder"), "host")
        if os.geteuid() != 0 and seen.st_uid != os.geteuid() and not share.read_only:
            who = _name(seen.st_uid)
            what = f"{folder} is {who}'s: its guest may change there only what everybody may"
            yield Finding(WARNING, "share-owner", about, what, f"chown -R {_name(os.geteuid())} {folder}", path, "host")
    if guest.shares and guest.system == "windows":
        what = "its system mounts nothing by itself: it needs its own driver and service for virtio-fs"
        remedy = "install them from the drivers' medium, or copy: dacha connect GUEST --copy FROM :TO"
        yield Finding(
            NOTE, "share-windows", f"guest {guest.name}", what, remedy, ("guest", guest.name, "share"), "host"
        )


def daemon_findings(ws: Workspace) -> list[Finding]:
    """A lab with shared folders on a host that has nothing to serve them."""
    names = [g.name for g in ws.lab.guests.values() if g.shares]
    if not names:
        return []
    from dacha.hypervisor.beside.shares import find

    if find():
        return []
    what = f"virtiofsd is not on this machine: it serves shared folders ({', '.join(names)})"
    remedy = "on Debian: apt install qemu-system-common (12), virtiofsd (13 and later)"
    return [Finding(ERROR, "share-daemon", "this host", what, remedy, (), "host")]


def _name(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)
