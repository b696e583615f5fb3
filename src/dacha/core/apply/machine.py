"""The machine of a guest: one plain value that is compared, stored, and turned into QEMU's command line.

It is JSON, because the record of a running guest is read by later versions.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, cast

from dacha.core.apply.first_boot import NO_SEEDS, Seeds
from dacha.core.lab.model import Guest, Lab
from dacha.core.lab.names import link_name, machine_uuid
from dacha.core.named import TypedDict
from dacha.core.plan.addresses import AdapterPlan
from dacha.core.plan.plan import Plan
from dacha.core.units import MIB

if TYPE_CHECKING:
    from typing import NotRequired

    # Where a display listens: "host" or "lan", and the port.
    MachineScreen = TypedDict("MachineScreen", {"from": str, "port": int})


class MachineBoot(TypedDict):
    """Direct kernel boot, by absolute paths. With `once`, the process exits when the system restarts: used for an
    installer."""

    kernel: str
    initrd: str | None
    command_line: str
    once: NotRequired[bool]


class MachineDisk(TypedDict):
    """A disk; `name` identifies its contents."""

    name: str
    bus: str


class MachineShare(TypedDict):
    """A folder of this host (absolute path) that the guest mounts under `name`; `owner` is the user ID that owns it in
    the guest."""

    name: str
    folder: str
    read_only: bool
    owner: int


class MachineAdapter(TypedDict):
    """An adapter, and the network's properties that matter to it. `tap` is None in user mode; `isolated` means no way
    out; `boot` is the folder and first file for network boot; `to_host` and `way_out` are present only if they differ
    from the defaults."""

    network: str
    tap: str | None
    hardware_address: str
    model: str
    address: str | None
    address6: str | None
    subnet: str | None
    gateway: str | None
    resolver: str | None
    subnet6: str | None
    gateway6: str | None
    isolated: bool
    boot: NotRequired[list[str]]
    to_host: NotRequired[list[str]]
    way_out: NotRequired[str]


class Machine(TypedDict):
    """A guest's machine. `drives` are the media in its drives by absolute path, None for an empty drive; `seed` is the
    digest of its first-boot data, None without any, `seed_without_keys` the digest without keys,
    `seed_without_setup` that without its setup either, if that is changed while it runs, `seed_without_addresses` that
    without the addresses of adapters either; `pxe` lists the IP
    versions for which UEFI tries network boot; `machine_type` is the version of its board, None before it is known;
    `usb` is True if it has a USB controller."""

    lab: str
    guest: str
    uuid: str
    accelerator: str
    cpu: str | None
    cpus: int
    memory_mib: int
    clock: str
    video: bool
    resolution: list[int] | None
    screen: MachineScreen | None
    firmware: str
    secure_boot: bool
    tpm: bool
    boot_order: list[str]
    pxe: list[int]
    boot: MachineBoot | None
    disks: list[MachineDisk]
    drives: list[str | None]
    adapters: list[MachineAdapter]
    shares: list[MachineShare]
    seed: str | None
    seed_without_keys: NotRequired[str | None]
    seed_without_setup: NotRequired[str | None]
    seed_without_addresses: NotRequired[str | None]
    machine_type: NotRequired[str | None]
    usb: NotRequired[bool]


# Keys that records of older versions may lack, with the values that their machines had.
_LACKING: dict[str, Any] = {
    "lab": "", "guest": "", "uuid": "", "accelerator": "tcg", "cpu": None, "cpus": 1, "memory_mib": 0, "clock": "utc",
    "video": True, "resolution": None, "screen": None, "firmware": "bios", "secure_boot": False, "tpm": False,
    "boot_order": ["disk", "medium"], "pxe": [4, 6], "boot": None, "disks": [], "drives": [], "adapters": [],
    "shares": [], "seed": None,
}  # fmt: skip
_ADAPTER_LACKING: dict[str, Any] = {
    "network": "", "tap": None, "hardware_address": "", "model": "virtio", "address": None, "address6": None,
    "subnet": None, "gateway": None, "resolver": None, "subnet6": None, "gateway6": None, "isolated": False,
}  # fmt: skip


def machine_from(raw: Mapping[str, Any]) -> Machine:
    """The machine in a stored record of this or an older version."""
    adapters = [{**_ADAPTER_LACKING, **a} for a in raw.get("adapters") or ()]
    return cast(Machine, {**_LACKING, **raw, "adapters": adapters})


def machine(
    lab: Lab,
    plan: Plan,
    guest: Guest,
    *,
    accelerator: str,
    files: Mapping[str, str],
    seeds: Seeds = NO_SEEDS,
    drives: Sequence[str | None] = (),
    installer: MachineBoot | None = None,
    machine_type: str | None = None,
) -> Machine:
    """The machine of one guest. `accelerator` is "kvm" or "tcg", already decided; `files` maps names in the lab file to
    absolute paths; `drives` are the media in its drives as such paths, None for an empty drive; `seeds` are the digests
    of its first-boot data; `installer` is the kernel that starts an installation."""
    boot = guest.boot
    made: Machine = {
        "lab": lab.name,
        "guest": guest.name,
        "uuid": machine_uuid(lab.name, guest.name),
        "accelerator": accelerator,
        "cpu": guest.cpu,
        "cpus": guest.cpus,
        "memory_mib": guest.memory // MIB,
        "clock": guest.clock,
        "video": guest.video,
        "resolution": list(guest.resolution) if guest.resolution else None,
        "screen": {"from": guest.screen.origin, "port": guest.screen.port} if guest.screen else None,
        "firmware": guest.firmware,
        "secure_boot": guest.secure_boot,
        "tpm": guest.tpm,
        "boot_order": list(guest.boot_order),
        "pxe": _pxe(lab, guest),
        "boot": installer
        if boot is None
        else {
            "kernel": files.get(boot.kernel, boot.kernel),
            "initrd": files.get(boot.initrd, boot.initrd) if boot.initrd else None,
            "command_line": boot.command_line,
        },
        "disks": [{"name": disk.name, "bus": disk.bus} for disk in guest.disks],
        "drives": list(drives),
        "adapters": [_adapter(lab, plan, a) for a in plan.adapters_of(guest.name)],
        "shares": [
            {"name": s.name, "folder": files.get(s.folder, s.folder), "read_only": s.read_only, "owner": s.owner}
            for s in guest.shares
            if not s.by_smb
        ],
        "seed": seeds.whole,
        "seed_without_keys": seeds.without_keys,
        "seed_without_setup": seeds.without_setup,
        "seed_without_addresses": seeds.without_addresses,
        "machine_type": machine_type,
    }
    if guest.usb:
        # Omitted without, so that machines started by an older version compare equal.
        made["usb"] = True
    return made


def _pxe(lab: Lab, guest: Guest) -> list[int]:
    """The IP versions for which the firmware tries network boot: only those that a server answers. Dacha serves no boot
    over IPv6, for which UEFI would wait a minute; nor over IPv4 if the files are offered by HTTP only."""
    networks = [lab.networks[a.network] for a in guest.adapters]
    if guest.firmware != "uefi" or "network" not in guest.boot_order or any(n.kind == "bridge" for n in networks):
        return [4, 6]
    return [] if all(n.by_kernel and n.boot and n.boot.http for n in networks) else [4]


def _adapter(lab: Lab, plan: Plan, adapter: AdapterPlan) -> MachineAdapter:
    net = plan.networks[adapter.network]

    def text(value: object) -> str | None:
        return None if value is None else str(value)

    network = lab.networks[adapter.network]
    # Omitted if default, so that machines started by an older version compare equal.
    more: dict[str, Any] = {}
    if not network.by_kernel and network.to_host:
        more["to_host"] = [str(opened) for opened in network.to_host]
    if not network.by_kernel and network.way_out != "anywhere":
        more["way_out"] = network.way_out
    made = {
        "network": adapter.network,
        "tap": link_name(lab.name, "guest", adapter.guest, str(adapter.number)) if network.by_kernel else None,
        "hardware_address": adapter.hardware_address,
        "model": adapter.model,
        "address": text(adapter.address),
        "address6": text(adapter.address6),
        "subnet": text(net.subnet),
        "gateway": text(net.gateway),
        "resolver": text(net.resolver),
        "subnet6": text(net.subnet6),
        "gateway6": text(net.gateway6),
        # A host-only network has no way out; in user mode this is the same restriction.
        "isolated": net.isolated or net.kind == "host-only",
    }
    return cast(MachineAdapter, made | more)
