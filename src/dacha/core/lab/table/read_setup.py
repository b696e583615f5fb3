"""Reading the tables `setup` of the lab file. A guest has its own; with `like` it extends one of the lab's named
setups: its values override, its lists are appended."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from dacha.core.errors import BadValue
from dacha.core.lab import fields
from dacha.core.lab.setup import NO_SETUP, PackageSource, PutFile, Setup, User
from dacha.core.lab.table.reader import Table
from dacha.core.spelling import did_you_mean

# IANA time zone names, language tags as in C libraries, layout names as in XKB.
_ZONE = re.compile(r"[A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+)*\Z")
_LOCALE = re.compile(r"[A-Za-z]{1,8}(_[A-Z]{2})?(\.[A-Za-z0-9-]+)?(@[a-z]+)?\Z")
_KEYBOARD = re.compile(r"[a-z]{2,12}\Z")
_PACKAGE = re.compile(r"[A-Za-z0-9][A-Za-z0-9.+:=~_-]*\Z")
# A URL (RFC 3986 section 2) without query and fragment, which lists of package sources would misread, and without
# quotation marks.
_MIRROR = re.compile(r"https?://[A-Za-z0-9._~%:@\[\]-]+(/[A-Za-z0-9._~!$&()*+,;=:@%/-]*)?\Z")
# An HTTP proxy: a host and a port.
_PROXY = re.compile(r"https?://[A-Za-z0-9._:\[\]-]+/?\Z")
# A release's name, or a path in the source that ends with a slash (sources.list(5)).
_SUITE = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*(/[A-Za-z0-9._-]+)*/?\Z|\./\Z")
# A host's name or address.
_HOST = re.compile(r"[A-Za-z0-9]([A-Za-z0-9.:-]*[A-Za-z0-9])?\Z")
_MODE = re.compile(r"0?[0-7]{3,4}\Z")


def read_setup(t: Table, named: Mapping[str, Setup] | None = None) -> Setup:
    """The setup in a table; `named` are those that a guest's own may extend, None for one of these itself."""
    base = NO_SETUP
    if named is not None:
        like = t.take("like", fields.text, None)
        if like is not None and like not in named:
            t.wrong(
                "like",
                "unknown-setup",
                f"no table [setup.{like}] exists",
                did_you_mean(like, named, f"add [setup.{like}]"),
            )
        base = named.get(like or "", NO_SETUP)
    own = Setup(
        locale=t.take("locale", _matching(_LOCALE, "a locale", '"en_GB.UTF-8"'), None),
        keyboard=t.take("keyboard", _matching(_KEYBOARD, "a keyboard layout", '"gb"'), None),
        time_zone=t.take("time-zone", _matching(_ZONE, "a time zone", '"Europe/London"'), None),
        mirror=t.take("mirror", _matching(_MIRROR, "a package mirror", '"http://10.77.4.1:3142/debian"'), None),
        proxy=t.take("proxy", _matching(_PROXY, "the address of a proxy", '"http://10.77.4.1:3128"'), None),
        update=t.take("update", fields.flag, None),
        automatic_updates=t.take("automatic-updates", fields.flag, None),
        remote_desktop=t.take("remote-desktop", fields.flag, None),
        packages=t.list_of("packages", _matching(_PACKAGE, "a package", '"tmux"')),
        services=t.list_of("services", _matching(_PACKAGE, "a service", '"nginx"')),
        run=t.list_of("run", fields.text),
        files=tuple(_file(f) for f in t.list_of_tables("file")),
        users=tuple(_user(u) for u in t.list_of_tables("user")),
        sources=tuple(_source(s) for s in t.list_of_tables("source")),
        time_servers=t.list_of("time-servers", _matching(_HOST, "a time server", '"192.0.2.1" or "time.example.org"')),
    )
    t.finish()
    return merged(base, own)


def merged(base: Setup, own: Setup) -> Setup:
    """One setup over another: single values of `own` override, lists are those of the base followed by its own."""
    values: dict[str, Any] = {}
    for key, mine in own._asdict().items():
        theirs = getattr(base, key)
        if isinstance(mine, tuple):
            replaced = {_key(x) for x in mine}
            values[key] = (*(x for x in theirs if _key(x) not in replaced), *mine)
        else:
            values[key] = theirs if mine is None else mine
    return Setup(**values)


def _key(item: object) -> object:
    """What identifies a member of a list: a user's name, a file's path."""
    return item[0] if isinstance(item, User | PutFile | PackageSource) else item


def _matching(pattern: re.Pattern[str], what: str, example: str) -> Callable[[object], str]:
    """A reader for text of a certain form."""

    def read(value: object) -> str:
        if not isinstance(value, str) or not pattern.match(value):
            raise BadValue(f"{value!r} is not {what}", f"such as {example}")
        return value

    return read


def _user(t: Table) -> User:
    user = User(
        name=t.need("name", fields.user, '"mara"') or "",
        keys=t.list_of("keys", fields.text),
        groups=t.list_of("groups", fields.user),
        administrator=t.take("administrator", fields.flag, False),
        shell=t.take("shell", _whole_path, None),
    )
    t.finish()
    return user


def _source(t: Table) -> PackageSource:
    source = PackageSource(
        name=t.need("name", fields.name, '"tides"') or "",
        address=t.need("address", _matching(_MIRROR, "a package source", '"https://tides.example.org/debian"'),
                       '"https://tides.example.org/debian"') or "",
        key=t.need("key", fields.text, '"tides.asc"') or "",
        suite=t.take("suite", _matching(_SUITE, "a suite", '"stable"'), None),
        components=t.list_of("components", _matching(_PACKAGE, "a component", '"main"')) or ("main",),
    )  # fmt: skip
    t.finish()
    return source


def _whole_path(value: object) -> str:
    if not isinstance(value, str) or not value.startswith("/") or fields.has_controls(value):
        raise BadValue(f"{value!r} is not an absolute path", 'such as "/bin/bash"')
    return value


def _any_text(value: object) -> str:
    if not isinstance(value, str):
        raise BadValue(f"{value!r} is not text", "write it in quotes")
    return value


def _file(t: Table) -> PutFile:
    found = PutFile(
        path=t.need("path", _whole_path, '"/etc/motd"') or "",
        text=t.take("text", _any_text, None),
        source=t.take("from", fields.text, None),
        mode=t.take("mode", _matching(_MODE, "a file mode", '"0644"'), "0644"),
        owner=t.take("owner", fields.user, "root"),
    )
    t.finish()
    if t.ok and (found.text is None) == (found.source is None):
        t.wrong("", "missing", "a file requires either text or from", 'such as: text = "Welcome to the pier"')
    return found
