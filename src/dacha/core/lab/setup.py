"""The setup of a guest's system, beyond its machine: applied at its first boot, from tables `setup` of the lab file."""

from __future__ import annotations

from dacha.core.named import NamedTuple


class User(NamedTuple):
    """An account in the guest: `keys` are public keys, or files with such; an administrator has all rights without a
    password."""

    name: str
    keys: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    administrator: bool = False
    shell: str | None = None


class PutFile(NamedTuple):
    """A file to create: its text, or the file beside the lab file that is copied."""

    path: str
    text: str | None = None
    source: str | None = None
    mode: str = "0644"
    owner: str = "root"


class Setup(NamedTuple):
    """The setup of a guest's system; None and empty values leave the image's defaults. `mirror` is its package mirror;
    `update` upgrades all packages at the first boot, `automatic_updates` keeps doing so."""

    locale: str | None = None
    keyboard: str | None = None
    time_zone: str | None = None
    mirror: str | None = None
    update: bool | None = None
    automatic_updates: bool | None = None
    remote_desktop: bool | None = None
    packages: tuple[str, ...] = ()
    services: tuple[str, ...] = ()
    run: tuple[str, ...] = ()
    files: tuple[PutFile, ...] = ()
    users: tuple[User, ...] = ()


NO_SETUP = Setup()
