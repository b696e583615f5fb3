"""A guest's setup with the contents of its files: keys as lines, files with their contents."""

from __future__ import annotations

import base64
from collections.abc import Iterator, Mapping

from dacha.core.apply.first_boot import SetupFacts, SetupUser
from dacha.core.errors import BadValue
from dacha.core.inside.setup_items import Item, digests
from dacha.core.lab.families import whole_setups
from dacha.core.lab.model import Guest
from dacha.core.lab.setup import NO_SETUP, PutFile, User
from dacha.core.units import show_size
from dacha.engine.guest.keys import accounts_of, key_line
from dacha.engine.workspace import Workspace

# The total size of a guest's files: first-boot software reads them completely, some of it from a small volume.
FILES_MOST = 4 << 20
# How a public key begins: armored, or a packet of that type in either format (RFC 9580 sections 4.2 and 6.2).
_KEYS = (b"-----BEGIN PGP PUBLIC KEY BLOCK-----", b"\x98", b"\x99", b"\xc6")


def setup_facts(ws: Workspace, guest: Guest, accounts: Mapping[str, list[str]]) -> SetupFacts | None:
    """The facts; None for a guest without a setup. What is not readable is omitted: `setup_troubles` reports it.
    `accounts` are all accounts of the guest, with their key lines."""
    setup = guest.setup
    users = {u.name: u for u in setup.users}
    # The login user is a separate entry; in the setup, it gets groups and a shell.
    told = {n: lines for n, lines in accounts.items() if n in users or not (guest.login and n == guest.login.user)}
    if setup == NO_SETUP and not told:
        return None
    facts: SetupFacts = {
        "locale": setup.locale,
        "keyboard": setup.keyboard,
        "time_zone": setup.time_zone,
        "update": bool(setup.update),
        "automatic_updates": bool(setup.automatic_updates),
        "packages": list(setup.packages),
        "services": list(setup.services),
        "run": list(setup.run),
        "files": [
            {"path": f.path, "content": base64.b64encode(body).decode(), "mode": f.mode, "owner": f.owner}
            for f in setup.files
            if (body := _contents(ws, f)) is not None
        ],
        "users": [_user(users.get(name), name, lines) for name, lines in told.items()],
    }
    if setup.mirror:
        facts["mirror"] = setup.mirror
    if setup.proxy:
        facts["proxy"] = setup.proxy
    if setup.time_servers:
        facts["time_servers"] = list(setup.time_servers)
    if setup.sources:
        facts["sources"] = [
            {"name": s.name, "address": s.address, "suite": s.suite or "", "components": list(s.components),
             "key": base64.b64encode(key).decode()}
            for s in setup.sources
            if (key := _read(ws, s.key)) is not None
        ]  # fmt: skip
    if setup.remote_desktop:
        facts["remote_desktop"] = True
    return facts


def _user(user: User | None, name: str, lines: list[str]) -> SetupUser:
    """An account: a user of the setup, or (None) one for people only."""
    if user is None:
        return {"name": name, "keys": lines, "groups": [], "administrator": False, "shell": None, "person": True}
    return {
        "name": name,
        "keys": lines,
        "groups": list(user.groups),
        "administrator": user.administrator,
        "shell": user.shell,
    }


def changes_live(guest: Guest) -> bool:
    """True if the guest's setup is changed while it runs; else all of it is applied again at its next start."""
    return guest.system != "windows"


def setup_items_of(ws: Workspace, guest: Guest) -> list[Item]:
    """The things that the guest's setup puts into it."""
    if guest.setup == NO_SETUP:
        return []
    from dacha.formats.seed.items import setup_items

    facts = setup_facts(ws, guest, accounts_of(ws, guest))
    return setup_items(facts, guest.system, guest.login.user if guest.login else None) if facts else []


def items_of(ws: Workspace, guest: Guest) -> dict[str, str]:
    """The digests of these things, by name."""
    return digests(setup_items_of(ws, guest))


def wanted_setups(ws: Workspace) -> dict[str, dict[str, str]]:
    """The things that should be in every guest, as digests by name, except guests whose setup is not changed while they
    run. One with a file or key that is not readable is not changed either: nothing is taken back because of that."""
    guests = [g for g in ws.lab.guests.values() if changes_live(g)]
    return {g.name: items_of(ws, g) for g in guests if not any(setup_troubles(ws, g))}


def setup_troubles(ws: Workspace, guest: Guest) -> Iterator[tuple[str, tuple[str | int, ...], BadValue]]:
    """What is not readable in a setup: a code, the path below the guest, and the error."""
    for n, user in enumerate(guest.setup.users):
        for key in user.keys:
            try:
                key_line(ws, key)
            except BadValue as e:
                yield "key-file", ("setup", "user", n, "keys"), e
    total = 0
    for n, file in enumerate(guest.setup.files):
        body = _contents(ws, file)
        total += len(body or b"")
        if body is None:
            what = f"{file.path}: no readable file: {ws.resolve(file.source or '')}"
            remedy = "give its path relative to the lab file, or its absolute path"
            yield "setup-file", ("setup", "file", n), BadValue(what, remedy)
    if total > FILES_MOST:
        what = f"its files have {show_size(total)} in total; the maximum is {show_size(FILES_MOST)}"
        yield "setup-files", ("setup", "file"), BadValue(what, "download large ones at the first boot: run")
    yield from _source_troubles(ws, guest)
    if guest.setup != NO_SETUP and not guest.first_boot and not changes_live(guest):
        what = "its setup has no effect: it is applied by first-boot data, which this guest does not get"
        yield "setup-untold", ("setup",), BadValue(what, "first-boot = true, or remove setup")


def _source_troubles(ws: Workspace, guest: Guest) -> Iterator[tuple[str, tuple[str | int, ...], BadValue]]:
    """What is wrong with further package sources, and what this system does not support."""
    manager = whole_setups().get(guest.system)
    for n, source in enumerate(guest.setup.sources):
        at, key = ("setup", "source", n), _read(ws, source.key)
        if manager is None:
            what = f"source {source.name}: package sources are supported on {', '.join(sorted(whole_setups()))} only"
            yield "setup-source", at, BadValue(what, "add it with commands in run")
        elif manager == "apt" and source.suite is None:
            what = f"source {source.name}: the key suite is missing"
            yield "setup-source", at, BadValue(what, 'set suite = "stable", or whatever the source documents')
        if key is None:
            what = f"source {source.name}: no readable file: {ws.resolve(source.key)}"
            yield "setup-source", at, BadValue(what, "give the path of its signing key relative to the lab file")
        elif not key.startswith(_KEYS):
            what = f"source {source.name}: {source.key} is not an OpenPGP public key"
            yield "setup-source", at, BadValue(what, "use the key that the source publishes, armored or binary")


def _contents(ws: Workspace, file: PutFile) -> bytes | None:
    return file.text.encode() if file.text is not None else _read(ws, file.source or "")


def _read(ws: Workspace, source: str) -> bytes | None:
    try:
        with ws.resolve(source).open("rb") as f:
            return f.read(FILES_MOST + 1)
    except OSError:
        return None
