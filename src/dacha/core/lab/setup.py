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


class PackageSource(NamedTuple):
    """A further source of packages: its address, the `key` that signs it (a file beside the lab file), and for apt its
    suite and components."""

    name: str
    address: str
    key: str
    suite: str | None = None
    components: tuple[str, ...] = ("main",)


class Setup(NamedTuple):
    """The setup of a guest's system; None and empty values leave the image's defaults. `mirror` is its package mirror,
    `proxy` the HTTP proxy that packages are fetched through, `time_servers` are names or addresses; `update` upgrades
    all packages at the first boot, `automatic_updates` keeps doing so."""

    locale: str | None = None
    keyboard: str | None = None
    time_zone: str | None = None
    mirror: str | None = None
    proxy: str | None = None
    update: bool | None = None
    automatic_updates: bool | None = None
    remote_desktop: bool | None = None
    packages: tuple[str, ...] = ()
    services: tuple[str, ...] = ()
    run: tuple[str, ...] = ()
    files: tuple[PutFile, ...] = ()
    users: tuple[User, ...] = ()
    sources: tuple[PackageSource, ...] = ()
    time_servers: tuple[str, ...] = ()


NO_SETUP = Setup()
