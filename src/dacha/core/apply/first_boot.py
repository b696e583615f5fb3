"""What a guest is told at its first boot: names, who may log in, its addresses, its host key."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from dacha.core.lab.model import Guest, Lab, Share
from dacha.core.lab.names import host_name, machine_uuid
from dacha.core.named import TypedDict
from dacha.core.plan.addresses import AdapterPlan
from dacha.core.plan.plan import Plan
from dacha.core.plan.smb import SmbPlace, smb_place
from dacha.core.sha256 import sha256

if TYPE_CHECKING:
    from typing import NotRequired


def _leads_out(plan: Plan, adapter: AdapterPlan) -> bool:
    """True when what a guest sends by this adapter can leave its network."""
    net = plan.networks[adapter.network]
    return net.kind == "bridge" or (net.kind == "nat" and not net.isolated)


class FirstBootAdapter(TypedDict):
    """An adapter as its guest is told of it: addresses with their prefix length."""

    hardware_address: str
    address: str | None
    address6: str | None
    gateway: str | None
    gateway6: str | None
    name_servers: list[str]


class SetupFile(TypedDict):
    """A file to be put in place; its contents in base64 (RFC 4648 section 4)."""

    path: str
    content: str
    mode: str
    owner: str


class SetupUser(TypedDict):
    """Somebody with an account; `keys` are lines of authorized_keys, `person` is true for one of the lab's people."""

    name: str
    keys: list[str]
    groups: list[str]
    administrator: bool
    shell: str | None
    person: NotRequired[bool]


class SetupFacts(TypedDict):
    """What a guest's system should be, with everything in it that files were named for."""

    locale: str | None
    keyboard: str | None
    time_zone: str | None
    update: bool
    automatic_updates: bool
    packages: list[str]
    services: list[str]
    run: list[str]
    files: list[SetupFile]
    users: list[SetupUser]
    # Left out where none is named, so that nothing else is a change.
    mirror: NotRequired[str]
    remote_desktop: NotRequired[bool]


class FirstBootShare(TypedDict):
    """A shared folder, and where it is mounted; one by SMB has the address of its `server`, and its `owner` there."""

    name: str
    at: str
    read_only: bool
    server: NotRequired[str]
    owner: NotRequired[int]


class FirstBoot(TypedDict):
    """What a guest is told at its first boot."""

    uuid: str
    host_name: str
    full_name: str
    system: str
    user: str | None
    keys: list[str]
    host_key: str
    adapters: list[FirstBootAdapter]
    # How often the guest was told to take it up again; left out while never, so that nothing else is a change.
    again: NotRequired[int]
    setup: NotRequired[SetupFacts]
    shares: NotRequired[list[FirstBootShare]]


def first_boot(
    lab: Lab,
    plan: Plan,
    guest: Guest,
    *,
    keys: list[str],
    host_key: str,
    again: int = 0,
    setup: SetupFacts | None = None,
) -> FirstBoot:
    """Everything a guest is told at its first boot: names, who may log in, its addresses, its host key.

    `keys` are lines of authorized_keys, `host_key` the public line of the guest's own key; `again` is how often it was
    told to take all this up once more, `setup` what its system should be.
    """
    adapters: list[FirstBootAdapter] = []
    mine = plan.adapters_of(guest.name)
    # One default route, or replies would leave by chance: by the first adapter with a way out.
    outward = next((n for n, a in enumerate(mine) if _leads_out(plan, a)), 0)
    for n, a in enumerate(mine):
        net = plan.networks[a.network]
        servers = [str(s) for s in net.name_servers] or ([str(net.resolver)] if net.resolver else [])
        adapters.append(
            {
                "hardware_address": a.hardware_address,
                "address": f"{a.address}/{a.prefix}" if a.address else None,
                "address6": f"{a.address6}/{a.prefix6}" if a.address6 else None,
                "gateway": str(net.gateway) if n == outward and net.gateway and a.address else None,
                "gateway6": str(net.gateway6) if n == outward and net.gateway6 and a.address6 else None,
                "name_servers": servers,
            }
        )
    told: FirstBoot = {
        "uuid": machine_uuid(lab.name, guest.name),
        "host_name": guest.name,
        "full_name": host_name(lab.name, guest.name),
        "system": guest.system,
        "user": guest.login.user if guest.login else None,
        "keys": keys,
        "host_key": host_key,
        "adapters": adapters,
    }
    if again:
        told["again"] = again
    if setup:
        told["setup"] = setup
    if guest.shares:
        told["shares"] = [_share(s, smb_place(lab, plan, guest)) for s in guest.shares]
    return told


def _share(share: Share, place: SmbPlace | None) -> FirstBootShare:
    told: FirstBootShare = {"name": share.name, "at": share.at, "read_only": share.read_only}
    if share.by_smb and place:
        told |= {"server": str(place.server), "owner": share.owner}
    return told


def digest(value: Mapping[str, Any]) -> str:
    """A short name for a value: the same value, the same name."""
    return sha256(json.dumps(value, sort_keys=True).encode()).hexdigest()[:16]


def without_keys(facts: FirstBoot) -> dict[str, Any]:
    """The facts without people's accounts and the keys that open any: a guest is not told everything anew because of
    those."""
    bare: dict[str, Any] = {**facts, "keys": []}
    if "setup" in facts:
        users = [{**u, "keys": []} for u in facts["setup"]["users"] if not u.get("person")]
        bare["setup"] = {**facts["setup"], "users": users}
        if not any(bare["setup"].values()):
            del bare["setup"]
    return bare
