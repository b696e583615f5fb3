"""What a guest needs before it starts: host key, first-boot data, entry in known_hosts."""

from __future__ import annotations

import os
from typing import Any

from dacha.core.apply.first_boot import FirstBoot, digest, without_keys, without_setup
from dacha.core.errors import HostError
from dacha.core.lab.model import Guest
from dacha.core.lab.names import host_name
from dacha.core.people.accounts import own_accounts
from dacha.core.people.keys_inside import together
from dacha.core.plan.plan import Plan
from dacha.engine.guest.first_boot import first_boot_facts, trusted_key
from dacha.engine.guest.keys import accounts_of
from dacha.engine.guest.passwords import hashes
from dacha.engine.guest.setup_facts import items_of
from dacha.engine.home import Home
from dacha.engine.record import Record
from dacha.engine.shares import smb
from dacha.engine.workspace import Workspace
from dacha.host.files import replace_file


def host_key_pair(lab: str, name: str) -> tuple[str, str]:
    """A new host key for a guest: private file and public line."""
    from dacha.formats.openssh import key_pair

    return key_pair(os.urandom(32), host_name(lab, name))


def make_host_key(home: Home, lab: str, name: str) -> None:
    """Create the guest's host key. The public file comes last: with it, the pair is complete."""
    private, public = host_key_pair(lab, name)
    replace_file(home.guest(name) / "host_key", private, mode=0o600)
    replace_file(home.guest(name) / "host_key.pub", public)


def write_seed(ws: Workspace, plan: Plan, guest: Guest) -> None:
    """Write the guest's seed image, and record the digest of its contents."""
    from dacha.formats.iso_image import iso_image
    from dacha.formats.seed.documents import documents

    facts = first_boot_facts(ws, plan, guest)
    try:
        private = (ws.home.guest(guest.name) / "host_key").read_text()
    except OSError as e:
        raise HostError(
            f"the host key of {guest.name} is missing", why=str(e), remedy="dacha apply creates a new one"
        ) from e
    record = ws.home.read(guest.name)
    instance = instance_of(facts, record)
    known = hashes(ws.home, guest.name)
    texts = documents(
        facts, instance=instance, host_key_private=private, passwords=known,
        share_password=smb.password(ws.home, guest.name),
    )  # fmt: skip
    replace_file(
        ws.home.guest(guest.name) / "seed.iso",
        iso_image("cidata", {n: t.encode() for n, t in texts.items()}),
        mode=0o600,
    )
    if instance != record.instance:
        # The guest adds these keys to its own: none is removed by this.
        record.keyed = together(record.keyed or {}, accounts_of(ws, guest))
        record.own_accounts = sorted({*record.own_accounts, *own_accounts(ws.lab, guest)})
    if instance != record.instance or record.machine is None:
        # Its first boot puts these things into the guest.
        record.inside = items_of(ws, guest)
    record.seed, record.told, record.instance = digest(facts), digest(without_keys(facts)), instance
    record.bare = digest(without_setup(facts))
    ws.home.write(guest.name, record)


def note_inside(ws: Workspace, guest: Guest) -> None:
    """Record what the setup put into a guest that an older version started: its first boot had the setup as it is
    now."""
    record = ws.home.read(guest.name)
    if record.inside is not None or not record.seed or not guest.first_boot:
        return
    if record.seed == digest(first_boot_facts(ws, ws.plan, guest)):
        record.inside = items_of(ws, guest)
        ws.home.write(guest.name, record)


def instance_of(facts: FirstBoot, record: Record) -> str:
    """The instance name of this content: a guest that sees a new one applies its first-boot data again. A change of
    keys and of the setup alone does not change it: they are made while the guest runs."""
    if record.instance and record.told == digest(without_keys(facts)):
        return record.instance
    if record.instance and record.bare == digest(without_setup(facts)) and facts["system"] != "windows":
        return record.instance
    return f"{facts['uuid']}-{digest(facts)}"


def write_known_hosts(ws: Workspace, plan: Plan, host_addresses: list[Any]) -> None:
    """Write the lab's known_hosts from the keys that Dacha created: by name, and by the address of every ssh door."""
    from dacha.formats.openssh import known_hosts

    entries = []
    for guest in ws.lab.guests.values():
        public = trusted_key(ws.home, guest.name)
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
    replace_file(ws.home.known_hosts, text)
