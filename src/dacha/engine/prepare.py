"""What a guest needs before it starts: its host key, its disks, its first-boot data."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from dacha.core.changes import MakeDisk
from dacha.core.errors import HostError
from dacha.core.identity import host_name
from dacha.core.lab import Guest
from dacha.core.machine import Machine, digest, first_boot, machine
from dacha.core.plan import Plan
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace
from dacha.host import folders
from dacha.host.files import write_whole
from dacha.hypervisor import accelerator
from dacha.hypervisor.images import Image


def key_line(ws: Workspace, written: str) -> str:
    """The authorized_keys line for one entry of `keys`: a .pub file, or the key itself.

    Raises ValueError with (what, remedy).
    """
    from dacha.formats.openssh import public_line

    if written.startswith(("ssh-", "ecdsa-", "sk-")):
        return public_line(written)
    path = ws.resolve(written)
    try:
        return public_line(path.read_text())
    except FileNotFoundError:
        raise ValueError(f"there is no key file {path}", "make one: ssh-keygen -t ed25519") from None
    except (OSError, UnicodeDecodeError) as e:
        raise ValueError(f"{path} cannot be read: {e}", "name a file that ends in .pub") from None


def first_boot_facts(ws: Workspace, plan: Plan, guest: Guest) -> Machine:
    """What the guest is to be told; a host key not yet made counts as empty. Unreadable keys are left out:
    `findings_about_files` names them, and nothing starts while it does."""
    lines = []
    for written in guest.login.keys if guest.login else ():
        try:
            lines.append(key_line(ws, written))
        except ValueError:
            continue
    return first_boot(ws.lab, plan, guest, keys=lines, host_key=host_key_public(ws.home, guest.name))


def host_key_public(home: Home, name: str) -> str:
    try:
        return (home.guest(name) / "host_key.pub").read_text().strip()
    except OSError:
        return ""


def machines(ws: Workspace, plan: Plan) -> dict[str, Machine]:
    """Every guest's desired machine on this host. Raises HostError when the pinned accelerator is not here."""
    chosen = accelerator.choose(ws.lab.accelerator).name
    wanted = {}
    for guest in ws.lab.guests.values():
        files = {}
        if guest.boot:
            files = {f: str(ws.resolve(f)) for f in (guest.boot.kernel, guest.boot.initrd) if f}
        seed = digest(first_boot_facts(ws, plan, guest)) if guest.first_boot else None
        wanted[guest.name] = machine(ws.lab, plan, guest, accelerator=chosen, files=files, seed=seed)
    return wanted


def image_path(ws: Workspace, written: str) -> Path:
    """The image that `from` names: a path, or a short name in the images folder of the state folder."""
    path = ws.resolve(written)
    if path.exists() or "/" in written:
        return path
    store = folders.state() / "images"
    for suffix in ("", ".qcow2", ".img", ".raw"):
        if (store / (written + suffix)).is_file():
            return store / (written + suffix)
    return path


def make_host_key(home: Home, lab: str, name: str) -> None:
    """Make the guest's host key. The public file comes last: with it, the pair is complete."""
    from dacha.formats.openssh import key_pair

    private, public = key_pair(os.urandom(32), host_name(lab, name))
    write_whole(home.guest(name) / "host_key", private, mode=0o600)
    write_whole(home.guest(name) / "host_key.pub", public)


def make_disk(ws: Workspace, change: MakeDisk) -> None:
    """Make one disk whole or not at all. Raises HostError."""
    from dacha.hypervisor import images

    base: Image | None = None
    if change.base:
        base = images.inspect(image_path(ws, change.base))
    images.create(ws.home.disk(change.guest, change.number), size=change.size, base=base, full=change.full)


def write_seed(ws: Workspace, plan: Plan, guest: Guest) -> str:
    """Write the guest's seed image; returns the digest of what it tells."""
    from dacha.formats.iso_image import iso_image
    from dacha.formats.seed import documents

    facts = first_boot_facts(ws, plan, guest)
    try:
        private = (ws.home.guest(guest.name) / "host_key").read_text()
    except OSError as e:
        raise HostError(
            f"the host key of {guest.name} is gone", why=str(e), remedy="dacha apply makes a new one"
        ) from e
    told = digest(facts)
    texts = documents(facts, instance=f"{facts['uuid']}-{told}", host_key_private=private)
    write_whole(
        ws.home.guest(guest.name) / "seed.iso",
        iso_image("cidata", {n: t.encode() for n, t in texts.items()}),
        mode=0o600,
    )
    return told


def write_known_hosts(ws: Workspace, plan: Plan, host_addresses: list[Any]) -> None:
    """Write the lab's known_hosts from the keys it made: by name, and by every place an ssh door is entered at."""
    from dacha.formats.openssh import known_hosts

    entries = []
    for guest in ws.lab.guests.values():
        public = host_key_public(ws.home, guest.name)
        if not public:
            continue
        names = [host_name(ws.lab.name, guest.name)]
        for door in guest.doors:
            planned = plan.doors[guest.name, door.name]
            if door.service == "ssh" and planned.port:
                names += [f"[{a}]:{planned.port.first}" for a in ("127.0.0.1", *host_addresses)]
        entries.append((names, public))
    text = known_hosts(entries)
    try:
        if ws.home.known_hosts.read_text() == text:
            return
    except OSError:
        pass
    write_whole(ws.home.known_hosts, text)
