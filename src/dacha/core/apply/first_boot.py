"""First-boot data of a guest: names, login, addresses, host key."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from dacha.core.lab.model import Guest, Lab, Share
from dacha.core.lab.names import host_name, machine_uuid
from dacha.core.named import NamedTuple, TypedDict
from dacha.core.plan.addresses import AdapterPlan
from dacha.core.plan.plan import Plan
from dacha.core.plan.smb import SmbPlace, smb_place
from dacha.core.sha256 import sha256

if TYPE_CHECKING:
    from typing import NotRequired


def _leads_out(plan: Plan, adapter: AdapterPlan) -> bool:
    """True if traffic through this adapter can leave its network."""
    net = plan.networks[adapter.network]
    return net.kind == "bridge" or (net.kind == "nat" and not net.isolated)


class FirstBootAdapter(TypedDict):
    """An adapter in first-boot data: addresses with prefix length."""

    hardware_address: str
    address: str | None
    address6: str | None
    gateway: str | None
    gateway6: str | None
    name_servers: list[str]


class SetupFile(TypedDict):
    """A file to create; its contents in base64 (RFC 4648 section 4)."""

    path: str
    content: str
    mode: str
    owner: str


class SetupUser(TypedDict):
    """An account; `keys` are lines of authorized_keys, `person` is true for one of the lab's people."""

    name: str
    keys: list[str]
    groups: list[str]
    administrator: bool
    shell: str | None
    person: NotRequired[bool]


class SetupSource(TypedDict):
    """A further source of packages; its key in base64 (RFC 4648 section 4), `suite` is empty if not set."""

    name: str
    address: str
    suite: str
    components: list[str]
    key: str


class SetupFacts(TypedDict):
    """The setup of a guest's system, with the contents of all files that it refers to."""

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
    # Omitted if empty, so that the digest of other guests does not change.
    mirror: NotRequired[str]
    proxy: NotRequired[str]
    sources: NotRequired[list[SetupSource]]
    time_servers: NotRequired[list[str]]
    remote_desktop: NotRequired[bool]


class FirstBootShare(TypedDict):
    """A shared folder and its mount point; one by SMB also has the address of its `server`, and its `owner` in the
    guest."""

    name: str
    at: str
    read_only: bool
    server: NotRequired[str]
    owner: NotRequired[int]


class FirstBoot(TypedDict):
    """The first-boot data of a guest."""

    uuid: str
    host_name: str
    full_name: str
    system: str
    user: str | None
    keys: list[str]
    host_key: str
    adapters: list[FirstBootAdapter]
    # How often the user asked to apply it again; omitted if zero, so that the digest does not change.
    again: NotRequired[int]
    groups: NotRequired[list[str]]
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
    """The first-boot data of a guest: names, login, addresses, host key. `keys` are lines of authorized_keys,
    `host_key` the public line of the guest's own key; `again` counts requests to apply it again; `setup` is the setup
    of its system."""
    adapters: list[FirstBootAdapter] = []
    mine = plan.adapters_of(guest.name)
    # Only one default route, on the first adapter with a way out: with several, replies could leave by the wrong one.
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
    if guest.login and guest.login.groups:
        told["groups"] = list(guest.login.groups)
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


class Seeds(NamedTuple):
    """The digests of a guest's first-boot data: of all, and of what remains without that which is changed while the
    guest runs; None without any, or if its system is not changed so."""

    whole: str | None = None
    without_keys: str | None = None
    without_setup: str | None = None
    without_addresses: str | None = None


NO_SEEDS = Seeds()


def seeds_of(facts: FirstBoot, *, live: bool) -> Seeds:
    """The digests of these data; `live` is true for a system that is changed while it runs."""
    seeds = Seeds(digest(facts), digest(without_keys(facts)))
    if not live:
        return seeds
    return seeds._replace(
        without_setup=digest(without_setup(facts)), without_addresses=digest(without_addresses(facts))
    )  # fmt: skip


def digest(value: Mapping[str, Any]) -> str:
    """A short digest of a value: equal values have equal digests."""
    return sha256(json.dumps(value, sort_keys=True).encode()).hexdigest()[:16]


def without_setup(facts: FirstBoot) -> dict[str, Any]:
    """The data without keys and without the setup: a change of those alone is made in the guest while it runs. What a
    lab has for people stays out of it too."""
    bare = without_keys(facts)
    bare.pop("setup", None)
    return bare


def without_addresses(facts: FirstBoot) -> dict[str, Any]:
    """The data without keys, without the setup, and without the addresses of adapters: those of a running guest can be
    changed, too."""
    bare = without_setup(facts)
    bare["adapters"] = [
        {**a, "address": a["address"] is not None, "address6": a["address6"] is not None} for a in facts["adapters"]
    ]
    return bare


def without_keys(facts: FirstBoot) -> dict[str, Any]:
    """The data without the accounts and keys of people: a change of those alone does not make the guest apply its
    first-boot data again."""
    bare: dict[str, Any] = {**facts, "keys": []}
    if "setup" in facts:
        users = [{**u, "keys": []} for u in facts["setup"]["users"] if not u.get("person")]
        bare["setup"] = {**facts["setup"], "users": users}
        if not any(bare["setup"].values()):
            del bare["setup"]
    return bare
