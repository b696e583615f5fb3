"""What a guest needs before it starts: its host key, its first-boot data, its place in known_hosts."""

from __future__ import annotations

import os
from typing import Any

from dacha.core.apply.first_boot import FirstBoot, digest, without_keys
from dacha.core.errors import HostError
from dacha.core.lab.model import Guest
from dacha.core.lab.names import host_name
from dacha.core.people.accounts import own_accounts
from dacha.core.people.keys_inside import together
from dacha.core.plan.plan import Plan
from dacha.engine.guest.first_boot import first_boot_facts, trusted_key
from dacha.engine.guest.keys import accounts_of
from dacha.engine.guest.passwords import hashes
from dacha.engine.home import Home
from dacha.engine.record import Record
from dacha.engine.shares import smb
from dacha.engine.workspace import Workspace
from dacha.host.files import replace_file


def host_key_pair(lab: str, name: str) -> tuple[str, str]:
    """A new host key for a guest: its private file, its public line."""
    from dacha.formats.openssh import key_pair

    return key_pair(os.urandom(32), host_name(lab, name))


def make_host_key(home: Home, lab: str, name: str) -> None:
    """Make the guest's host key. The public file comes last: with it, the pair is complete."""
    private, public = host_key_pair(lab, name)
    replace_file(home.guest(name) / "host_key", private, mode=0o600)
    replace_file(home.guest(name) / "host_key.pub", public)


def write_seed(ws: Workspace, plan: Plan, guest: Guest) -> None:
    """Write the guest's seed image, and note in its record what it tells."""
    from dacha.formats.iso_image import iso_image
    from dacha.formats.seed import documents

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
        # It adds these keys to what it has: none goes by this.
        record.keyed = together(record.keyed or {}, accounts_of(ws, guest))
        record.own_accounts = sorted({*record.own_accounts, *own_accounts(ws.lab, guest)})
    record.seed, record.told, record.instance = digest(facts), digest(without_keys(facts)), instance
    ws.home.write(guest.name, record)


def instance_of(facts: FirstBoot, record: Record) -> str:
    """The name of this content: a guest that sees another than before takes its first-boot data up again, and does all
    that it says once more. Keys alone are not worth that: they are put into the guest while it runs."""
    if record.instance and record.told == digest(without_keys(facts)):
        return record.instance
    return f"{facts['uuid']}-{digest(facts)}"


def write_known_hosts(ws: Workspace, plan: Plan, host_addresses: list[Any]) -> None:
    """Write the lab's known_hosts from the keys it made: by name, and by every place an ssh door is entered at."""
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
