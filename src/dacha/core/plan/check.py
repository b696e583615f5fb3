"""The findings of `check` about a lab that could be read: errors of the plan, and the lab against this host."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from ipaddress import IPv4Network

from dacha.core.findings import ERROR, NOTE, WARNING, Finding, Path
from dacha.core.lab.kinds import CLEAR
from dacha.core.lab.model import Guest, Lab
from dacha.core.lab.names import link_name
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan
from dacha.core.plan.subnets import UsedSubnets, free_subnet
from dacha.core.units import GIB, show_size, whole_number


class HostFacts(NamedTuple):
    """Resources of this host: logical CPUs, bytes of memory, and free bytes by folder."""

    cpus: int
    memory: int
    memory_free: int
    disk_free: dict[str, int]


# Shared address space (RFC 6598).
_SHARED = IPv4Network("100.64.0.0/10")
# Memory that a host needs for itself; if guests use it, host and guests swap.
HOST_MEMORY = 1 * GIB


def promised(lab: Lab) -> tuple[int, int, int]:
    """The resources of all guests together: virtual CPUs, bytes of memory, bytes of disk."""
    guests = lab.guests.values()
    return (
        sum(g.cpus for g in guests),
        sum(g.memory for g in guests),
        sum(d.size or 0 for g in guests for d in g.disks),
    )


def check_lab(lab: Lab, plan: Plan) -> list[Finding]:
    """All findings that follow from the file alone."""
    findings = [*plan.findings, *_check_link_names(lab, plan), *_check_networks(lab), *_check_usage(lab, plan)]
    for guest in lab.guests.values():
        findings += _check_login(lab, guest)
        findings += _check_clear_doors(guest)
        findings += _check_limits(guest)
        findings += _check_machine(lab, guest)
        findings += _check_network_install(lab, guest)
        if guest.install and guest.disks and guest.disks[0].passphrase:
            what = "it is installed onto an encrypted disk: Dacha cannot see in it whether the installation is complete"
            remedy = 'remove the passphrase of its first disk, or start from an image: from = "IMAGE"'
            findings.append(_of(ERROR, "install-encrypted", guest, what, remedy, "disk"))
        findings += _check_mirror(lab, plan, guest)
        if not guest.disks and guest.boot is None:
            what, remedy = "no disk and no kernel: the guest has nothing to boot", 'add: disk = [{ from = "IMAGE" }]'
            findings.append(_of(WARNING, "nothing-to-boot", guest, what, remedy))
    return findings


def _of(severity: str, code: str, guest: Guest, what: str, remedy: str, *key: str) -> Finding:
    """A finding about a guest, or about one of its keys."""
    return Finding(severity, code, f"guest {guest.name}", what, remedy, ("guest", guest.name, *key))


def _check_usage(lab: Lab, plan: Plan) -> Iterator[Finding]:
    """A port for collectors that is the port of a door."""
    port = lab.usage.port if lab.usage else None
    for door in plan.doors.values():
        if port and any(f.protocol == "tcp" and f.port == port for f in door.forwards()):
            what = f"port {port} is already that of door {door.door.guest} {door.door.name}"
            yield Finding(ERROR, "usage-port", "usage", what, "choose another port", ("usage", "port"))


def _check_networks(lab: Lab) -> Iterator[Finding]:
    """Services of this host that guests may use, and public subnets."""
    for opened in [n for n in lab.networks.values() if n.to_host]:
        what = f"its guests may use these services of this host: {', '.join(map(str, opened.to_host))}"
        path: Path = ("network", opened.name, "to-host")
        yield Finding(NOTE, "to-host", f"network {opened.name}", what, "to deny this, remove the key to-host", path)
    for net in lab.networks.values():
        if net.kind != "bridge" and net.subnet and not _own_addresses(net.subnet):
            what = (
                f"the addresses of {net.subnet} are public: this host can no longer reach the machines on the "
                "internet that have them"
            )
            free = free_subnet(lab.name, net.name, UsedSubnets(n.subnet for n in lab.networks.values() if n.subnet))
            remedy = f"dacha network edit {net.name} --renumber {free}" if free else "use a private subnet"
            at: Path = ("network", net.name, "subnet")
            yield Finding(WARNING, "public-subnet", f"network {net.name}", what, remedy, at)


def _own_addresses(subnet: IPv4Network) -> bool:
    """True for addresses that are not public: private, shared and documentation ones (RFC 6890)."""
    return subnet.is_private or subnet.subnet_of(_SHARED)


def _check_network_install(lab: Lab, guest: Guest) -> Iterator[Finding]:
    """A guest to be installed over a network without boot files."""
    mine = [lab.networks[a.network] for a in guest.adapters if a.network in lab.networks]
    if not guest.by_network or any(n.boot and (n.managed or not guest.answers) for n in mine):
        return
    missing = next((f'backend = "kernel" in [network.{n.name}]' for n in mine if n.boot), None)
    own = next((n.name for n in mine if n.kind != "bridge"), None)
    added = f'in [network.{own}]: backend = "kernel", boot = {{ files = "FOLDER" }}'
    what = "the guest is installed over a network, but none of its networks offers boot files"
    if missing:
        what = "its installer gets its answers over a kernel network, and this guest has none"
    remedy = missing or (added if own else 'add an adapter on a network with backend = "kernel"')
    yield _of(ERROR, "install-network", guest, what, remedy, "install")


def _check_mirror(lab: Lab, plan: Plan, guest: Guest) -> Iterator[Finding]:
    """Package sources and a proxy on this host that the guest's network does not allow."""
    setup = guest.setup
    for place in dict.fromkeys((setup.mirror, setup.proxy, *(s.address for s in setup.sources))):
        if place:
            yield from _check_source(lab, plan, guest, place)


def _check_source(lab: Lab, plan: Plan, guest: Guest, source: str) -> Iterator[Finding]:
    scheme, _, rest = source.partition("://")
    place, _, written = rest.partition("/")[0].partition(":")
    number = whole_number(written)
    port = number if number is not None else 443 if scheme == "https" else 80
    for network in [lab.networks[a.network] for a in guest.adapters if a.network in lab.networks]:
        opened = any(o.protocol in ("all", "tcp") and o.ports.first <= port <= o.ports.last for o in network.to_host)
        if network.kind != "bridge" and place == str(plan.networks[network.name].gateway) and not opened:
            what = f"its packages come from this host, but network {network.name} does not allow tcp {port}"
            remedy = f'in [network.{network.name}]: to-host = ["tcp {port}"]'
            yield _of(WARNING, "mirror-shut", guest, what, remedy, "setup")


def _check_login(lab: Lab, guest: Guest) -> Iterator[Finding]:
    """Whether the login and the users of a guest work together."""
    let_in = any(p.keys and p.enters_by_ssh(guest) for p in lab.people.values())
    if guest.login and not guest.login.keys and not let_in:
        what = f"no login is possible: {guest.login.user} has no key"
        yield _of(WARNING, "login-keys", guest, what, 'add: keys = ["~/.ssh/id_ed25519.pub"]', "login")
    if any(d.service == "ssh" for d in guest.doors) and guest.first_boot and guest.login is None:
        what = "it has an ssh door, but no login user"
        remedy = f"dacha guest edit {guest.name} --user ops --key ~/.ssh/id_ed25519.pub"
        yield _of(WARNING, "login-missing", guest, what, remedy)
    told = guest.first_boot or guest.install
    if guest.login and guest.login.user == "root" and told and guest.system != "windows":
        what = "root cannot log in: first-boot data and installers disable root's own login"
        yield _of(ERROR, "login-root", guest, what, 'user = "ops": it may become root with sudo', "login", "user")
    if guest.login and guest.login.user in {u.name for u in guest.setup.users}:
        what = (
            f"{guest.login.user} is the login user and also in setup.user: the groups and shell there would not "
            "take effect"
        )
        remedy = "remove it from setup.user; for its groups use login.groups"
        yield _of(ERROR, "login-twice", guest, what, remedy, "setup", "user")


def _check_clear_doors(guest: Guest) -> Iterator[Finding]:
    """Doors from outside whose traffic is not encrypted."""
    for door in guest.doors:
        if door.origin == "outside" and door.service in CLEAR:
            what = f"{door.service} from outside is not encrypted: anybody on the path can read the traffic"
            remedy = "serve https there, or use a tunnel through an ssh door"
            path = ("guest", guest.name, "door", door.name)
            yield Finding(WARNING, "door-clear", f"door {guest.name} {door.name}", what, remedy, path)


def _check_limits(guest: Guest) -> Iterator[Finding]:
    """Limits below the guest's own memory."""
    limit = guest.limits.memory
    if limit is not None and limit < guest.memory:
        what = f"limits: {show_size(limit)} is less than its memory, {show_size(guest.memory)}"
        remedy = "remove it, or set it to the guest's memory plus 512 MiB for QEMU itself"
        yield _of(ERROR, "limit-memory", guest, what, remedy, "limits")


def _check_link_names(lab: Lab, plan: Plan) -> Iterator[Finding]:
    """Two adapters whose links would have the same name: rare, and hard to diagnose otherwise."""
    seen: dict[str, str] = {}
    for adapter in plan.adapters.values():
        if not lab.networks[adapter.network].by_kernel:
            continue
        name = link_name(lab.name, "guest", adapter.guest, str(adapter.number))
        other = seen.setdefault(name, adapter.guest)
        if other != adapter.guest:
            what = f"its link on this host would have the same name as a link of {other}: {name}"
            yield Finding(
                ERROR, "link-name", f"guest {adapter.guest}", what, "rename one of the two", ("guest", adapter.guest)
            )


def _check_machine(lab: Lab, guest: Guest) -> Iterator[Finding]:
    """A guest's disks and display."""
    for n, disk in enumerate(guest.disks):
        if disk.storage is not None and disk.storage not in lab.storages:
            yield Finding(
                ERROR,
                "unknown-storage",
                f"guest {guest.name}",
                f"disk {disk.name}: there is no storage {disk.storage}",
                f"known here: {', '.join(lab.storages) or 'none; add [storage.NAME]'}",
                ("guest", guest.name, "disk", n, "storage"),
            )
    if guest.tpm and guest.boot and guest.firmware == "bios":
        # QEMU 7.2 puts the TPM's log where the initrd is loaded: the guest hangs, or has no ACPI.
        yield Finding(
            ERROR,
            "tpm-direct",
            f"guest {guest.name}",
            "a TPM does not work with a kernel that BIOS boots directly: both use the same memory",
            'firmware = "uefi"',
            ("guest", guest.name, "tpm"),
        )
    if guest.screen and guest.screen.origin == "lan":
        yield Finding(
            WARNING,
            "screen-open",
            f"guest {guest.name}",
            f"its display is open to the whole LAN on port {guest.screen.port}: a password of 8 characters guards it, "
            "and what is seen crosses the LAN in the clear",
            'screen = { from = "host", … } with an ssh door is safer',
            ("guest", guest.name, "screen"),
        )


def check_host(lab: Lab, facts: HostFacts, growth: Mapping[str, int]) -> list[Finding]:
    """The lab's needs against this host's resources; `growth` is how many bytes its disks may still grow, by folder."""
    findings = []
    cpus, memory, _ = promised(lab)
    if memory > facts.memory - HOST_MEMORY:
        findings.append(
            Finding(
                WARNING,
                "memory-promised",
                "lab",
                f"the guests have {show_size(memory)} of memory in total; this host has {show_size(facts.memory)}",
                f"reduce them to {show_size(max(0, facts.memory - HOST_MEMORY))} in total, or do not run all of "
                "them at the same time",
                (),
                "host",
            )
        )
    most = max((g.cpus for g in lab.guests.values()), default=0)
    if cpus > facts.cpus * 4:
        findings.append(
            Finding(
                WARNING,
                "cpus-promised",
                "lab",
                f"the guests have {cpus} virtual CPUs in total; this host has {facts.cpus}",
                "use at most four virtual CPUs for each of the host's: more slow all guests down",
                (),
                "host",
            )
        )
    if most > facts.cpus:
        name = next(g.name for g in lab.guests.values() if g.cpus == most)
        findings.append(
            Finding(
                WARNING,
                "cpus-many",
                f"guest {name}",
                f"{most} virtual CPUs, but this host has {facts.cpus}",
                f"cpus = {facts.cpus} at most",
                ("guest", name, "cpus"),
                "host",
            )
        )
    for folder, size in growth.items():
        free = facts.disk_free.get(folder, 0)
        if size <= free:
            continue
        findings.append(
            Finding(
                WARNING,
                "disk-promised",
                "lab",
                f"the disks may grow by {show_size(size)}; {show_size(free)} is free in {folder}",
                "make them smaller, or free some space",
                (),
                "host",
            )
        )
    return findings
