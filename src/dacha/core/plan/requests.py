"""What a lab file requests of the host that applies it: files, commands, ports, privileges.

For a file that somebody else wrote: a guest can be given any file that the administrator can read.
"""

from __future__ import annotations

from collections.abc import Iterator

from dacha.core.lab.model import Guest, Lab
from dacha.core.lab.network import Network
from dacha.core.lab.person import is_key
from dacha.core.named import NamedTuple

READS, SHARES, WRITES = "reads", "shares", "writes"
LISTENS, REACHES, RUNS, CHANGES = "listens", "reaches", "runs", "changes"
_ORIGINS = {"host": "this host only", "lan": "the LAN", "outside": "the internet"}


class Request(NamedTuple):
    """One request: its `kind`, the `subject` in the lab, and `what` is requested."""

    kind: str
    subject: str
    what: str


def requests(lab: Lab) -> list[Request]:
    """Every request of the lab, in file order."""
    found = [Request(WRITES, f"storage {name}", folder) for name, folder in lab.storages.items()]
    if lab.open_firewall:
        found.append(Request(CHANGES, "lab", "this host's own firewall: one rule for each door"))
    if lab.from_outside and not lab.by_hand:
        found.append(Request(REACHES, "lab", f"the router {lab.router or 'of the default route'}: port mappings"))
    for alert in lab.alerts.values():
        found.append(Request(RUNS, f"on {alert.event}", f"on this host: {' '.join(alert.run)}"))
    for network in lab.networks.values():
        found += (Request(kind, f"network {network.name}", what) for kind, what in _network(network))
    for guest in lab.guests.values():
        found += (Request(kind, f"guest {guest.name}", what) for kind, what in _guest(guest))
    for person in lab.people.values():
        found += (Request(READS, f"person {person.name}", key) for key in _files(person.keys))
    return found


def _files(keys: tuple[str, ...]) -> Iterator[str]:
    """The keys whose values are file names."""
    return (key for key in keys if not is_key(key))


def _network(network: Network) -> Iterator[tuple[str, str]]:
    if network.by_kernel:
        yield CHANGES, "links and firewall rules of this host (needs root)"
    if network.made_from:
        yield CHANGES, f"moves this host's addresses from {network.made_from} to a bridge"
    elif network.interface:
        yield REACHES, f"the LAN on {network.interface}, as a machine of its own"
    if network.kind == "nat" and not network.isolated:
        yield REACHES, "the internet" if network.way_out == "internet" else "the LAN and the internet"
    for ports in network.to_host:
        yield REACHES, f"services of this host: {ports}"
    if network.boot:
        yield SHARES, f"{network.boot.files} (to every machine on the network)"


def _guest(guest: Guest) -> Iterator[tuple[str, str]]:
    for disk in guest.disks:
        if disk.base:
            yield READS, disk.base
        if disk.passphrase and disk.passphrase != "ask" and not disk.passphrase.startswith("credential:"):
            yield READS, disk.passphrase
    if guest.archive:
        yield WRITES, guest.archive.folder
    files = [guest.install if guest.install and not guest.by_network else None, *guest.media]
    files += [guest.boot.kernel, guest.boot.initrd] if guest.boot else []
    yield from ((READS, path) for path in files if path)
    for share in guest.shares:
        yield SHARES, f"{share.folder} ({'read-only' if share.read_only else 'read and write'})"
    login, setup = guest.login, guest.setup
    for keys in (login.keys if login else (), *(u.keys for u in setup.users)):
        yield from ((READS, key) for key in _files(keys))
    yield from ((READS, f"{put.source} (into {put.path})") for put in setup.files if put.source)
    if setup.mirror:
        yield REACHES, f"packages from {setup.mirror}"
    yield from ((RUNS, f"in the guest, as root: {command}") for command in setup.run)
    for door in guest.doors:
        where = f"port {door.port}" if door.port else "a port"
        yield LISTENS, f"{where} of this host for {_ORIGINS[door.origin]}, door {door.name}"
    if guest.screen:
        yield LISTENS, f"port {guest.screen.port} of this host for {_ORIGINS[guest.screen.origin]}, its screen"
    if guest.start.at_boot:
        yield RUNS, "from this host's start on"
