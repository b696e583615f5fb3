"""One network's addresses while the plan is made: registered, checked, proposed."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from itertools import chain

from dacha.core.findings import ERROR, Finding, Path, subject_of
from dacha.core.lab.model import Adapter
from dacha.core.lab.network import Network
from dacha.core.named import NamedTuple

# Room for a gateway, a resolver and at least three guests (RFC 1918 subnets cost nothing).
SMALLEST = 29
# The first proposed address, if the subnet is large enough: the first ten are usually kept for infrastructure.
FIRST_HOST = 10


class NetworkPlan(NamedTuple):
    """A network with all values decided. `resolver` is its name server's address."""

    name: str
    kind: str
    subnet: IPv4Network | None
    gateway: IPv4Address | None
    resolver: IPv4Address | None
    subnet6: IPv6Network | None
    gateway6: IPv6Address | None
    name_servers: tuple[IPv4Address | IPv6Address, ...]
    isolated: bool


def wrong(findings: list[Finding], code: str, path: Path, what: str, remedy: str = "", about: str = "lab") -> None:
    findings.append(Finding(ERROR, code, subject_of(path), what, remedy, path, about))


class AddressPool:
    """The addresses of one network while the plan is made."""

    def __init__(self, network: Network, plan: NetworkPlan, findings: list[Finding]) -> None:
        self.network = network
        self.plan = plan
        self.findings = findings
        self.taken: dict[IPv4Address | IPv6Address, str] = {}
        self._cursor: int | None = None

    def _refuse(self, code: str, path: Path, what: str) -> None:
        free = self.next_free()
        wrong(self.findings, code, path, what, f"free there: {free}" if free else "")

    def take(self, guest: str, adapter: Adapter) -> tuple[str | None, str | None]:
        """Register the configured addresses; returns the former owner of each."""
        before = self.taken.get(adapter.address) if adapter.address else None
        before6 = self.taken.get(adapter.address6) if adapter.address6 else None
        for address in (adapter.address, adapter.address6):
            if address:
                self.taken.setdefault(address, guest)
        return before, before6

    def judge(self, before: str | None, path: Path, adapter: Adapter) -> None:
        """Check a configured address; `before` is the guest that already has it."""
        address, path = adapter.address, (*path, "address")
        subnet, name = self.plan.subnet, self.plan.name
        if address is None:
            return
        if subnet is None:
            if adapter.prefix is None and self.network.kind == "bridge":
                wrong(
                    self.findings,
                    "no-subnet",
                    path,
                    f"network {name} has no subnet, so {address} has no prefix length",
                    f'add subnet to the network, or write "{address}/24"',
                )
        elif address not in subnet:
            self._refuse("address-foreign", path, f"address {address} is not in network {name} ({subnet})")
        elif adapter.prefix not in (None, subnet.prefixlen):
            wrong(
                self.findings,
                "prefix",
                path,
                f"/{adapter.prefix} differs from the network's prefix length /{subnet.prefixlen}",
                f'write "{address}"',
            )
        elif address == subnet.network_address:
            self._refuse("address-network", path, f"{address} is the network's own address")
        elif address == subnet.broadcast_address:
            self._refuse("address-broadcast", path, f"{address} is the broadcast address of {subnet}")
        elif address == self.plan.gateway:
            self._refuse("address-gateway", path, f"{address} is the gateway of network {name}")
        elif address == self.plan.resolver:
            self._refuse("address-resolver", path, f"{address} is the name server of network {name}")
        elif self.network.dynamic and self.network.dynamic[0] <= address <= self.network.dynamic[1]:
            self._refuse("address-dynamic", path, f"{address} is in the dynamic range of network {name}")
        elif before:
            self._refuse("duplicate-address", path, f"{address} is also the address of {before}")

    def judge6(self, before: str | None, path: Path, adapter: Adapter) -> None:
        """The same for IPv6."""
        address, path, subnet = adapter.address6, (*path, "address6"), self.plan.subnet6
        if address is None:
            return
        if subnet is None and self.network.kind != "bridge":
            wrong(
                self.findings,
                "no-subnet6",
                path,
                f"network {self.plan.name} has no subnet6",
                f"dacha network edit {self.plan.name} --subnet6 fd77:4::/64, or another prefix that you have",
            )
        elif subnet is not None and address not in subnet:
            wrong(
                self.findings,
                "address6-foreign",
                path,
                f"{address} is not in network {self.plan.name} ({subnet})",
                "choose one in this subnet",
            )
        elif address in (self.plan.gateway6, subnet.network_address if subnet else None):
            wrong(
                self.findings,
                "address6-gateway",
                path,
                f"{address} is the address of the network's router",
                "choose another",
            )
        elif before:
            wrong(
                self.findings,
                "duplicate-address6",
                path,
                f"{address} is also the address of {before}",
                "choose another",
            )

    def propose(self, guest: str, index: int, chosen: dict[Path, str]) -> IPv4Address | None:
        """Choose the lowest free address; none on a bridge, whose LAN assigns addresses."""
        if self.network.kind == "bridge" or self.plan.subnet is None:
            return None
        free = self.next_free()
        path: Path = ("guest", guest, "adapter", index, "address")
        if free is None:
            wrong(
                self.findings,
                "subnet-full",
                path,
                f"no address is free in network {self.plan.name} ({self.plan.subnet})",
                "use a larger subnet, or another network",
            )
            return None
        self.taken[free] = guest
        chosen[path] = str(free)
        return free

    def propose6(self, guest: str, address: IPv4Address | None) -> IPv6Address | None:
        """The IPv6 address that corresponds to the IPv4 one: 10.77.4.20 of a /24 gives PREFIX::20."""
        subnet, subnet6 = self.plan.subnet, self.plan.subnet6
        if address is None or subnet is None or subnet6 is None:
            return None
        # The decimal digits are copied, although IPv6 reads them as hexadecimal.
        digits = str(int(address) - int(subnet.network_address))
        found = subnet6.network_address + int(digits, 16)
        while found in self.taken or found == self.plan.gateway6:
            found += 1 << 32
        self.taken[found] = guest
        return found

    def next_free(self) -> IPv4Address | None:
        """The lowest free guest address, from the tenth on if there is room."""
        subnet = self.plan.subnet
        if subnet is None or subnet.prefixlen > SMALLEST:
            return None
        low, high = int(subnet.network_address), int(subnet.broadcast_address)
        first = low + FIRST_HOST if subnet.prefixlen <= 27 else low + 1
        # Addresses are never released, so the search continues where it ended: linear in total.
        for number in chain(range(self._cursor or first, high), range(low + 1, first)):
            address = IPv4Address(number)
            if self._allowed(address):
                self._cursor = max(number, first)
                return address
        self._cursor = high
        return None

    def _allowed(self, address: IPv4Address) -> bool:
        dynamic = self.network.dynamic
        return (
            address not in self.taken
            and address not in (self.plan.gateway, self.plan.resolver)
            and not (dynamic and dynamic[0] <= address <= dynamic[1])
        )
