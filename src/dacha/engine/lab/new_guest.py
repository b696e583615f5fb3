"""A new guest in the lab file: the specified values, and explicit defaults for others."""

from __future__ import annotations

from typing import Any

from dacha.core.errors import UsageError
from dacha.core.lab.kinds import ORIGINS, SERVICES
from dacha.core.lab.table.profile import Profile
from dacha.core.lab.text.edits import Edit, Set
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean
from dacha.core.units import show_size
from dacha.engine.disks import kept_disks
from dacha.engine.lab.guest_values import (
    AdapterValues,
    Values,
    adapter_value,
    archive_values,
    boot_values,
    machine_values,
    start_values,
)
from dacha.engine.lab.proposals import (
    disk_size_for,
    family_of,
    firmware_for,
    login_for,
    medium_facts,
    tidy_size,
    usual,
    written_path,
)
from dacha.engine.workspace import Workspace


class NewGuest(NamedTuple):
    """The options for a new guest, besides its values: names as on the command line."""

    name: str
    image: str | None = None
    install: str | None = None
    beside: str | None = None
    attach: tuple[str, ...] = ()
    new_disk: bool = False
    copy: bool = False
    storage: str | None = None
    disk: str | None = None
    bus: str | None = None
    allocation: str | None = None
    passphrase: str | None = None
    network: str | None = None
    kernel: str | None = None
    initrd: str | None = None
    command_line: str | None = None
    user: str | None = None
    keys: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    doors: tuple[str, ...] = ()


def new_guest(ws: Workspace, asked: NewGuest, values: Values, adapter: AdapterValues) -> list[Edit]:
    """The edits that add the guest, with a network if the lab has none for it. Raises UsageError."""
    if asked.name in ws.lab.guests:
        raise UsageError(
            f"a guest {asked.name} already exists", where=ws.path.name, remedy=f"dacha guest edit {asked.name} …"
        )
    if not asked.attach and not asked.new_disk:
        kept_disks.refuse_silent(ws, asked.name)
    networks = ws.lab.networks.values()
    network = asked.network or next((n.name for n in (*(n for n in networks if n.kind == "nat"), *networks)), None)
    edits: list[Edit] = [] if network else [Set(("network", "inside"), {"kind": "nat"})]
    family = values.system or family_of(asked.image)
    if asked.install and not family:
        family = medium_facts(ws, asked.install).get("family")
    profile = usual(family)
    guest: dict[str, Any] = {"system": family} if family else {}
    guest |= {"memory": show_size(profile.memory)} | machine_values(values)
    if boot := boot_values(ws, asked.kernel, asked.initrd, asked.command_line):
        guest["boot"] = boot
    guest |= _install(ws, asked, profile, guest)
    disks = _disks(ws, asked, profile)
    if disks:
        guest["disk"] = disks
    named = {
        key.replace("_", "-"): adapter_value(key, value)
        for key, value in adapter._asdict().items()
        if value is not None
    }
    guest["adapter"] = [{"network": network or "inside"} | named]
    login = login_for(ws, asked.user, asked.keys)
    if asked.groups and not login:
        raise UsageError("--group needs a login user", remedy="add --user USER")
    if login:
        guest["login"] = login | ({"groups": list(asked.groups)} if asked.groups else {})
    if start := start_values(values):
        guest["start"] = start
    if archive := archive_values(ws, values):
        guest["archive"] = archive
    if asked.doors:
        guest["door"] = dict(map(_door, asked.doors))
    return [*edits, Set(("guest", asked.name), guest)]


def _install(ws: Workspace, asked: NewGuest, profile: Profile, guest: dict[str, Any]) -> dict[str, Any]:
    """Values of an installation: its medium, a second one, and the firmware that the medium supports."""
    found: dict[str, Any] = {}
    if asked.install and "firmware" not in guest and asked.install != "network":
        found["firmware"] = firmware_for(ws, asked.install, profile.firmware)
    if asked.install:
        found["install"] = asked.install
    if asked.beside:
        found["medium"] = [asked.beside]
    return found


def _disks(ws: Workspace, asked: NewGuest, profile: Profile) -> list[dict[str, Any]]:
    """Its disks: kept ones, one on an image, or an empty one; a guest with direct kernel boot may have none."""
    disks: list[dict[str, Any]] = []
    if asked.attach:
        for n, d in enumerate(kept_disks.chosen(ws, asked.name, list(asked.attach))):
            disks.append(
                ({} if d.name == str(n) else {"name": d.name})
                | kept_disks.as_it_was(ws, asked.name, d.name, profile.bus)
            )
    elif asked.image:
        image = written_path(ws, asked.image)
        size = tidy_size(asked.disk) if asked.disk else disk_size_for(ws, image, profile.disk)
        disks = [{"from": image} | ({"size": size} if size else {}) | ({"copy": True} if asked.copy else {})]
    elif asked.disk or not asked.kernel:
        disks = [{"size": tidy_size(asked.disk) if asked.disk else show_size(profile.disk)}]
    for key in ("storage", "bus", "allocation", "passphrase"):
        value = getattr(asked, key)
        if value and not disks:
            raise UsageError(f"--{key}: the guest has no disk", remedy="add --disk SIZE")
        if value:
            is_file = key == "passphrase" and value != "ask" and not value.startswith("credential:")
            disks[0][key] = written_path(ws, value) if is_file else value
    taken = [d.name for d in kept_disks.kept(ws.home, asked.name)]
    if asked.new_disk and disks and taken:
        disks[0]["name"] = next(str(n) for n in range(1000) if str(n) not in taken)
    return disks


def _door(text: str) -> tuple[str, dict[str, Any]]:
    """A door from "ssh" or "ssh=lan": its name, and its table. Raises UsageError."""
    name, _, origin = text.partition("=")
    for what, known in ((name, SERVICES), (origin or "host", ORIGINS)):
        if what not in known:
            raise UsageError(
                f"--door: unknown {'service' if what == name else 'place'} {what}",
                remedy=did_you_mean(
                    what, known, "use, for example, --door ssh=lan; for other services: dacha door add"
                ),
            )
    return name, {"from": origin or "host"}
