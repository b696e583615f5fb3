"""What a guest's system should be, beyond its machine: told at its first boot, by tables `setup` of the lab file."""

from __future__ import annotations

from dacha.core.named import NamedTuple


class User(NamedTuple):
    """Somebody who has an account in the guest: `keys` are files of public keys, or keys; an administrator may do
    everything without a password."""

    name: str
    keys: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    administrator: bool = False
    shell: str | None = None


class PutFile(NamedTuple):
    """A file put in place: its text, or the file beside the lab file that it is a copy of."""

    path: str
    text: str | None = None
    source: str | None = None
    mode: str = "0644"
    owner: str = "root"


class Setup(NamedTuple):
    """Everything that a guest's system is told; None and empty where it is left as its image has it. `mirror` is
    where its packages come from; `update` brings all packages up to date at first boot, `automatic_updates` goes on
    with that."""

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
