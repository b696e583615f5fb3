"""The things that a setup puts into a running guest: the same that its first boot would apply."""

from __future__ import annotations

import base64
from collections.abc import Iterator

from dacha.core.apply.first_boot import SetupFacts
from dacha.core.inside.setup_items import Item
from dacha.formats.remote_desktop import remote_desktop
from dacha.formats.seed.setup import AUTOMATIC, KEYBOARD, MANAGERS, mirror_parts
from dacha.formats.seed.sources import source_files


def setup_items(setup: SetupFacts, system: str, login: str | None = None) -> list[Item]:
    """The things, each once; `login` is the login user. Accounts of people are not among them: their keys have a change
    of their own. Nor is `update`, which concerns the first boot only."""
    found: dict[str, Item] = {}
    for item in _items(setup, system, login):
        found.setdefault(item.name, item)
    return list(found.values())


def _items(setup: SetupFacts, system: str, login: str | None) -> Iterator[Item]:
    family = MANAGERS.get(system, "")
    if setup.get("mirror"):
        yield Item("mirror", "", (setup["mirror"], mirror_parts(system)))
    for file in source_files(setup, family):
        yield Item("source", file["path"], (file["path"], file["mode"], file["owner"]), file["content"])
    yield from (_package(p) for p in setup["packages"])
    for user in setup["users"]:
        if not user.get("person"):
            administrator = "yes" if user["administrator"] else ""
            values = (user["name"], user["shell"] or "", administrator, " ".join(user["groups"]))
            yield Item("user", user["name"], values)
    for file in setup["files"]:
        yield Item("file", file["path"], (file["path"], file["mode"], file["owner"]), file["content"])
    if setup["time_zone"]:
        yield Item("zone", "", (setup["time_zone"],))
    if setup["locale"]:
        yield Item("locale", "", (setup["locale"],))
    if setup["keyboard"]:
        yield Item("keyboard", "", (setup["keyboard"],), _encoded(KEYBOARD.format(setup["keyboard"])))
    if setup.get("time_servers"):
        yield Item("clock", "", (" ".join(setup["time_servers"]),))
    if setup["automatic_updates"] and family:
        packages, written, timers = AUTOMATIC[family]
        yield from (_package(p) for p in packages)
        if written:
            yield _file(written[0], written[1])
        yield from (Item("service", t, (t,)) for t in timers)
    if setup.get("remote_desktop") and family:
        names = [login] if login else []
        made = remote_desktop(family, dict.fromkeys([*names, *(u["name"] for u in setup["users"])]))
        yield from (_package(p) for p in made.packages)
        yield from (_file(path, text, mode) for path, text, mode in made.files)
        yield Item("command", "to set up the remote desktop", (), _encoded("\n".join(["set -e", *made.commands])))
    yield from (Item("service", s, (s,)) for s in setup["services"])
    yield from (Item("command", c, (), _encoded(c)) for c in setup["run"])


def _package(name: str) -> Item:
    return Item("package", name, (name,))


def _file(path: str, text: str, mode: str = "0644") -> Item:
    return Item("file", path, (path, mode, "root"), _encoded(text))


def _encoded(text: str) -> str:
    return base64.b64encode(text.encode()).decode()
