"""The kernel's part of a lab as plain values: links with their names, rules as text, IPv6 of the lab's own."""

from __future__ import annotations

from ipaddress import IPv6Network

from hypothesis import given

from dacha.core.apply.first_boot import first_boot
from dacha.core.lab.model import Lab
from dacha.core.lab.names import LINK_NAME_MOST, link_name, local_prefix
from dacha.core.lab.table.read import read_lab
from dacha.core.network.links import (
    GROUP,
    BridgeLink,
    DirectLink,
    TapLink,
    VlanLink,
    alias_prefix,
    kernel_plan,
    tap_group,
)
from dacha.core.network.rules import removal, ruleset, table_name
from dacha.core.plan.check import check_lab
from dacha.core.plan.plan import Plan, make_plan
from tests.strategies import names

TEXT = """[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[network.vault]
kind = "host-only"
backend = "kernel"
subnet = "10.77.9.0/24"
[network.quay]
kind = "bridge"
interface = "br0"
[network.plain]
kind = "nat"
subnet = "10.77.5.0/24"
[guest.gauge]
adapter = [{ network = "pier", address = "10.77.4.20" }, { network = "quay" }, { network = "plain" }]
door.ssh = { from = "lan", port = 2220, network = "pier", allow = ["192.0.2.0/24"] }
door.http = { from = "host", port = 8080, network = "pier" }
[guest.router]
adapter = [{ network = "vault", address = "10.77.9.10", routes = true }]
"""


def planned(text: str) -> tuple[Lab, Plan]:
    reading = read_lab(text)
    assert reading.lab and not reading.findings
    return reading.lab, make_plan(reading.lab)


def test_each_network_and_adapter_has_its_link_and_user_mode_has_none() -> None:
    lab, plan = planned(TEXT)
    links = kernel_plan(lab, plan)
    assert [b.network for b in links.bridges()] == ["pier", "vault"]
    assert [(t.guest, t.adapter) for t in links.taps()] == [("gauge", 0), ("gauge", 1), ("router", 0)]
    pier = links.bridges()[0]
    assert pier.addresses[:2] == ("10.77.4.1/24", "10.77.4.2/24") and pier.addresses[2].endswith("::1/64")
    assert [t.bridge for t in links.taps()] == [pier.name, "br0", links.bridges()[1].name]
    # An interface that is no bridge takes the guest itself, with the guest's own hardware address.
    direct = kernel_plan(lab, plan, wired={"br0"}).links[links.taps()[1].name]
    assert isinstance(direct, DirectLink) and direct.hardware_address == plan.adapters["gauge", 1].hardware_address
    for link in links.links.values():
        assert link.alias.startswith(alias_prefix("real")) and isinstance(link, BridgeLink | TapLink)


def test_without_a_prefix_a_lab_has_its_own_and_guests_end_alike_in_both() -> None:
    _, plan = planned(TEXT)
    prefix = plan.networks["pier"].subnet6
    assert prefix == local_prefix("real", "pier") and prefix.subnet_of(IPv6Network("fd00::/8"))
    assert str(plan.adapters["gauge", 0].address6).endswith("::20")
    assert plan.networks["plain"].subnet6 is None and plan.adapters["gauge", 2].address6 is None


def test_rules_hold_what_the_lab_has_and_nothing_it_has_not() -> None:
    lab, plan = planned(TEXT)
    text = ruleset(lab, plan, kernel_plan(lab, plan))
    assert "tcp . 2220 : 10.77.4.20 . 22" in text and "tcp . 127.0.0.1 . 8080 : 10.77.4.20 . 80" in text
    assert "tcp . 2220 . 192.0.2.0/24" in text and "10.77.5." not in text
    taps = {(t.guest, t.adapter): t.name for t in kernel_plan(lab, plan).taps()}
    pins = text.partition("table bridge dacha_real {")[2]
    # A guest that routes, and one on the LAN's own bridge, may send with any address.
    pinned, _, free = pins.partition("set pinned")[2].partition("set hardware")[0].partition("set free")
    assert taps["gauge", 0] in pinned and taps["gauge", 1] in free and taps["router", 0] in free
    assert taps["gauge", 1] not in pinned and taps["router", 0] not in pinned and taps["gauge", 0] not in free
    # What comes by a tap of the lab that neither knows is dropped, and so is every kind of frame but three.
    assert "iifname != @pinned iifname != @free counter drop" in pins and pins.rstrip().endswith("counter drop\n}\n}")
    # A door from the host is looked up where this host sends, and nowhere else.
    entered, _, here = text.partition("chain entered {")[2].partition("chain entered_here {")
    assert "@doors_here" not in entered and "@doors_here" in here
    assert 'iifname != "lo" ip daddr 127.0.0.0/8 counter drop' in text
    # Nor may it say that it is somebody else, or play the router for its neighbours.
    gauge = plan.adapters["gauge", 0].address6
    assert gauge is not None and f"@th,64,128 {int(gauge):#x} accept" in pins
    assert "nd-router-advert counter drop" in pins and "udp sport 67 counter drop" in pins
    plain = TEXT.replace(', allow = ["192.0.2.0/24"]', "")
    lab, plan = planned(plain)
    assert "limits" not in ruleset(lab, plan, kernel_plan(lab, plan))
    assert removal("a-b").count("dacha_a_b") == 4 and table_name("a-b") == "dacha_a_b"


def test_the_default_route_goes_where_a_way_out_is() -> None:
    text = TEXT.replace(
        '[guest.router]\nadapter = [{ network = "vault", address = "10.77.9.10", routes = true }]',
        '[guest.router]\nadapter = [{ network = "vault" }, { network = "pier" }, { network = "plain" }]\n'
        '[guest.locker]\nadapter = [{ network = "vault" }]',
    )
    lab, plan = planned(text)
    told = first_boot(lab, plan, lab.guests["router"], keys=[], host_key="")["adapters"]
    assert [(a["gateway"], bool(a["gateway6"])) for a in told] == [(None, False), ("10.77.4.1", True), (None, False)]
    (alone,) = first_boot(lab, plan, lab.guests["locker"], keys=[], host_key="")["adapters"]
    assert alone["gateway"] == "10.77.9.1"


def test_a_vlan_has_a_link_that_its_guests_are_put_on() -> None:
    text = """[lab]
name = "real"
[network.quay]
kind = "bridge"
interface = "br0"
vlan = 7
[guest.gauge]
memory = "64 MiB"
adapter = [{ network = "quay" }]
"""
    lab = read_lab(text).lab
    assert lab is not None
    vlan, guest = kernel_plan(lab, make_plan(lab)).links.values()
    assert isinstance(vlan, VlanLink) and (vlan.parent, vlan.number) == ("br0", 7)
    assert isinstance(guest, DirectLink) and guest.parent == vlan.name


def test_a_tpm_beside_a_directly_booted_kernel_needs_uefi() -> None:
    text = '[lab]\nname = "real"\n[guest.gauge]\ntpm = true\nboot = { kernel = "vmlinuz" }\n'
    lab, plan = planned(text)
    assert "tpm-direct" in {f.code for f in check_lab(lab, plan)}
    lab, plan = planned(text.replace("tpm = true", 'tpm = true\nfirmware = "uefi"'))
    assert "tpm-direct" not in {f.code for f in check_lab(lab, plan)}


@given(names, names, names)
def test_link_names_fit_the_kernel_and_tell_labs_apart(lab: str, other: str, guest: str) -> None:
    found = {link_name(x, kind, guest, n) for x in {lab, other} for kind in ("guest", "network") for n in "01"}
    assert len(found) == 4 * len({lab, other})
    for name in found:
        assert 0 < len(name) <= LINK_NAME_MOST and name[0].isalpha() and not name.endswith("-")


def test_no_two_labs_taps_have_one_group() -> None:
    """What one lab's rules do not know of its own group they drop: another lab's taps would be mute."""
    groups = {tap_group(f"lab-{n}") for n in range(20_000)}
    assert len(groups) == 20_000 and GROUP not in groups and all(0 < g < 1 << 31 for g in groups)
