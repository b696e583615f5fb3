"""The address plan: never a used, reserved or foreign address; stable; wrong ones refused with a free one named."""

from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.lab.model import Adapter, Guest, Lab
from dacha.core.lab.names import hardware_address, host_name, machine_uuid
from dacha.core.lab.network import Network
from dacha.core.lab.table.read import read_lab
from dacha.core.plan.addresses import plan_addresses, propose_address
from dacha.core.plan.plan import make_plan
from dacha.core.plan.subnets import AVOIDED, UsedSubnets, free_subnet
from dacha.host.network import addresses

subnets = st.builds(
    lambda base, prefix: IPv4Network((base, prefix), strict=False),
    st.integers(0x0A000000, 0x0AFFFFFF),
    st.integers(16, 29),
)


@st.composite
def labs(draw: st.DrawFn) -> tuple[Lab, list[IPv4Network]]:
    """A lab whose stated addresses are right, and subnets that its host uses."""
    host = draw(st.lists(subnets, max_size=5))
    networks: dict[str, Network] = {}
    used = UsedSubnets(host)
    for n in range(draw(st.integers(1, 4))):
        subnet = draw(st.one_of(st.none(), subnets))
        if subnet is not None and used.overlapping(subnet):
            subnet = None
        if subnet is not None:
            used.add(subnet)
        dynamic = None
        if subnet is not None and subnet.prefixlen <= 26 and draw(st.booleans()):
            dynamic = (subnet.network_address + 20, subnet.network_address + draw(st.integers(20, 40)))
        networks[f"n{n}"] = Network(name=f"n{n}", kind="nat", subnet=subnet, dynamic=dynamic)
    guests = {}
    for n in range(draw(st.integers(0, 12))):
        adapters = tuple(Adapter(network=draw(st.sampled_from(list(networks)))) for _ in range(draw(st.integers(0, 3))))
        guests[f"g{n}"] = Guest(name=f"g{n}", memory=1 << 27, adapters=adapters)
    return Lab(name="lab", networks=networks, guests=guests, storages={}), host


@given(labs())
def test_no_address_is_used_reserved_or_foreign(drawn: tuple[Lab, list[IPv4Network]]) -> None:
    lab, host = drawn
    plan = plan_addresses(lab, host)
    seen: set[IPv4Address] = set()
    for adapter in plan.adapters.values():
        net, address = plan.networks[adapter.network], adapter.address
        if address is None:
            assert any(f.code == "subnet-full" for f in plan.findings)
            continue
        assert net.subnet is not None and address in net.subnet
        assert address not in (net.subnet.network_address, net.subnet.broadcast_address, net.gateway, net.resolver)
        dynamic = lab.networks[adapter.network].dynamic
        assert not (dynamic and dynamic[0] <= address <= dynamic[1])
        assert address not in seen
        seen.add(address)
    for one in plan.networks.values():
        assert one.subnet is not None
        if lab.networks[one.name].subnet is None:
            assert not any(one.subnet.overlaps(other) for other in (*host, *AVOIDED))
        assert not any(
            one.subnet.overlaps(two.subnet) for two in plan.networks.values() if two is not one and two.subnet
        )


@given(labs())
def test_the_plan_is_stable_and_settles(drawn: tuple[Lab, list[IPv4Network]]) -> None:
    """Written down, a choice is chosen no more, and nothing else moves."""
    lab, host = drawn
    plan = plan_addresses(lab, host)
    assert plan == plan_addresses(lab, host)
    networks = {
        n: Network(name=n, kind="nat", subnet=plan.networks[n].subnet, dynamic=net.dynamic)
        for n, net in lab.networks.items()
    }
    guests = {
        g.name: Guest(
            name=g.name,
            memory=g.memory,
            adapters=tuple(
                Adapter(network=a.network, address=plan.adapters[g.name, n].address) for n, a in enumerate(g.adapters)
            ),
        )
        for g in lab.guests.values()
    }
    again = plan_addresses(Lab(name="lab", networks=networks, guests=guests, storages={}), host)
    assert again.adapters == plan.adapters
    assert not any(path[0] == "network" for path in again.chosen)


@given(labs())
def test_a_proposed_address_is_one_nobody_has(drawn: tuple[Lab, list[IPv4Network]]) -> None:
    lab, host = drawn
    plan = plan_addresses(lab, host)
    for name in lab.networks:
        proposed = propose_address(lab, name, host)
        assert proposed is None or proposed not in {a.address for a in plan.adapters.values()}


@given(st.lists(subnets, max_size=30), subnets)
def test_overlap_agrees_with_trying_each(many: list[IPv4Network], one: IPv4Network) -> None:
    assert (UsedSubnets(many).overlapping(one) is not None) == any(one.overlaps(other) for other in many)


def test_a_free_subnet_ends_when_all_are_taken() -> None:
    everything = UsedSubnets([IPv4Network("10.0.0.0/8"), IPv4Network("172.16.0.0/12")])
    assert free_subnet("lab", "net", everything) is None


def plan_of(address: str = "", network: Network | None = None, *others: str) -> list[tuple[str, str, str]]:
    net = network or Network(name="pier", kind="nat", subnet=IPv4Network("10.77.4.0/24"))
    adapters = [Adapter(network="pier", address=IPv4Address(a) if a else None) for a in (*others, address)]
    guests = {f"g{n}": Guest(name=f"g{n}", memory=1 << 27, adapters=(a,)) for n, a in enumerate(adapters)}
    found = plan_addresses(Lab(name="lab", networks={"pier": net}, guests=guests, storages={})).findings
    return [(f.code, f.what, f.remedy) for f in found]


@pytest.mark.parametrize(
    ("address", "code"),
    [
        ("10.77.5.11", "address-foreign"),
        ("10.77.4.0", "address-network"),
        ("10.77.4.255", "address-broadcast"),
        ("10.77.4.1", "address-gateway"),
        ("10.77.4.2", "address-resolver"),
        ("10.77.4.10", "duplicate-address"),
    ],
)
def test_a_wrong_address_is_refused_and_a_free_one_named(address: str, code: str) -> None:
    (found,) = plan_of(address, None, "10.77.4.10")
    assert found[0] == code and "free there: 10.77.4.11" in found[2]


def test_the_dynamic_range_is_kept_clear() -> None:
    net = Network(
        name="pier",
        kind="nat",
        subnet=IPv4Network("10.77.4.0/24"),
        dynamic=(IPv4Address("10.77.4.10"), IPv4Address("10.77.4.99")),
    )
    (found,) = plan_of("10.77.4.50", net)
    assert found[0] == "address-dynamic" and "10.77.4.100" in found[2]


@pytest.mark.parametrize(
    ("network", "code"),
    [
        ({"subnet": IPv4Network("10.1.1.0/30")}, "subnet-small"),
        ({"subnet": IPv4Network("10.1.1.0/24"), "gateway": IPv4Address("10.1.2.1")}, "gateway-foreign"),
        ({"gateway": IPv4Address("10.1.2.1")}, "gateway-alone"),
        (
            {"subnet": IPv4Network("10.1.1.0/24"), "dynamic": (IPv4Address("10.1.1.1"), IPv4Address("10.1.1.9"))},
            "dynamic-gateway",
        ),
        (
            {"subnet": IPv4Network("10.1.1.0/24"), "dynamic": (IPv4Address("10.1.3.1"), IPv4Address("10.1.3.9"))},
            "dynamic-foreign",
        ),
    ],
)
def test_a_wrong_network_is_refused(network: dict[str, object], code: str) -> None:
    net = Network(name="pier", kind="nat", **network)  # type: ignore[arg-type]
    assert code in [
        f.code for f in plan_addresses(Lab(name="lab", networks={"pier": net}, guests={}, storages={})).findings
    ]


def test_subnets_that_overlap_each_other_or_the_host_are_refused() -> None:
    one = Network(name="one", kind="nat", subnet=IPv4Network("10.1.0.0/16"))
    two = Network(name="two", kind="nat", subnet=IPv4Network("10.1.4.0/24"))
    lab = Lab(name="lab", networks={"one": one, "two": two}, guests={}, storages={})
    assert [f.code for f in plan_addresses(lab).findings] == ["subnet-overlap"]
    (found,) = plan_addresses(
        Lab(name="lab", networks={"two": two}, guests={}, storages={}), [IPv4Network("10.1.4.128/25")]
    ).findings
    assert (found.code, found.about) == ("subnet-in-use", "host")


def test_a_full_subnet_says_so() -> None:
    net = Network(name="pier", kind="nat", subnet=IPv4Network("10.1.1.0/29"))
    codes = [c for c, _, _ in plan_of("", net, *[""] * 5)]
    assert codes == ["subnet-full", "subnet-full"]


def test_an_unknown_network_proposes_the_nearest() -> None:
    guest = Guest(name="g", memory=1 << 27, adapters=(Adapter(network="peir"),))
    lab = Lab(name="lab", networks={"pier": Network(name="pier", kind="nat")}, guests={"g": guest}, storages={})
    (found,) = plan_addresses(lab).findings
    assert (found.code, found.remedy) == ("unknown-network", "did you mean pier?")


@given(st.text(min_size=1), st.text(min_size=1), st.integers(0, 8))
def test_made_hardware_addresses_are_local_and_unicast(lab: str, guest: str, index: int) -> None:
    first = int(hardware_address(lab, guest, index)[:2], 16)
    assert first & 1 == 0 and first & 2 == 2
    assert hardware_address(lab, guest, index) != hardware_address(lab, guest, index + 1)


def test_names_and_identifiers_follow_from_names() -> None:
    assert host_name("saltmarsh", "gauge") == "gauge.saltmarsh.internal"
    uuid = machine_uuid("saltmarsh", "gauge")
    assert uuid == machine_uuid("saltmarsh", "gauge") != machine_uuid("saltmarsh", "charts")
    assert [len(p) for p in uuid.split("-")] == [8, 4, 4, 4, 12] and uuid[14] == "8" and uuid[19] in "89ab"


MACHINES = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
dynamic = "10.77.4.100-10.77.4.199"
machine.press = { hardware-address = "02:00:00:77:04:60", address = "10.77.4.10" }
[guest.gauge]
memory = "64 MiB"
adapter = [{ network = "pier" }]
"""


def test_a_machine_that_is_no_guest_keeps_its_address_from_guests() -> None:
    lab = read_lab(MACHINES).lab
    assert lab and make_plan(lab).adapters["gauge", 0].address == IPv4Address("10.77.4.11")
    for before, after, code in (
        ('4.10"', '4.1"', "address-gateway"), ('4.10"', '4.150"', "address-dynamic"),
        ('4.10"', '9.1"', "address-foreign"),
        ("machine.press", "machine.gauge", "duplicate-name"),
        ('network = "pier" }', 'network = "pier", address = "10.77.4.10" }', "duplicate-address"),
        ('network = "pier" }', 'network = "pier", hardware-address = "02:00:00:77:04:60" }',
         "duplicate-hardware-address"),
    ):  # fmt: skip
        found = read_lab(MACHINES.replace(before, after)).lab
        assert found and code in [f.code for f in make_plan(found).findings], (after, code)
    for before, after, words in (
        ('backend = "kernel"\n', "", 'add: backend = "kernel"'), (', address = "10.77.4.10"', "", "address"),
        ("02:00:00:77:04:60", "pier", "hardware"),
    ):  # fmt: skip
        wrong = read_lab(MACHINES.replace(before, after)).findings
        assert any(words in f.what + f.remedy for f in wrong), wrong


@pytest.mark.parametrize(
    ("network", "code", "words"),
    [
        ('subnet = "10.77.4.0/24"\ndynamic = "10.77.4.2-10.77.4.9"', "dynamic-gateway", "the resolver 10.77.4.2"),
        ('subnet = "10.77.4.0/24"\ndynamic = "10.77.4.200-10.77.4.255"', "dynamic-gateway", "the broadcast address"),
        ('subnet = "10.77.4.0/24"\ndynamic = "10.77.4.0-10.77.4.9"', "dynamic-gateway", "the network address"),
        ('subnet = "10.77.4.0/24"\ngateway = "10.77.4.0"', "gateway-end", "is the network address of 10.77.4.0/24"),
        ('subnet = "10.77.4.0/24"\ngateway = "10.77.4.255"', "gateway-end", "is the broadcast address"),
        ('subnet = "127.0.0.0/24"', "subnet-reserved", "the loopback of each machine"),
        ('subnet = "224.1.0.0/24"', "subnet-reserved", "multicast"),
        ('subnet6 = "fe80::/64"', "subnet-reserved", "link-local"),
        ('subnet6 = "fd77::/64"\n[network.b]\nkind = "nat"\nsubnet6 = "fd77::/64"', "subnet-overlap", "network pier"),
    ],
)  # fmt: skip
def test_an_address_that_no_guest_can_have_is_refused(network: str, code: str, words: str) -> None:
    lab = read_lab(f'[lab]\nname = "l"\n[network.pier]\nkind = "nat"\nbackend = "kernel"\n{network}\n').lab
    assert lab is not None
    found = [f for f in make_plan(lab).findings if f.code == code]
    assert found and words in found[0].what and found[0].remedy


def test_a_vpns_halves_of_everything_are_no_subnets_of_this_host(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    table = tmp_path / "route"
    table.write_text(
        "Iface\tDestination\tGateway\tFlags\tRefCnt\tUse\tMetric\tMask\tMTU\tWindow\tIRTT\n"
        "tun0\t00000000\t00000000\t1\t0\t0\t0\t00000080\t0\t0\t0\n"
        "tun0\t00000080\t00000000\t1\t0\t0\t0\t00000080\t0\t0\t0\n"
        "eth0\t000200C0\t00000000\t1\t0\t0\t0\t00FFFFFF\t0\t0\t0\n"
    )
    monkeypatch.setattr(addresses, "_ROUTES", str(table))
    assert addresses.used_subnets() == [IPv4Network("192.0.2.0/24")]
