"""Learned addresses: believed where they are free, and in nobody's plan."""

from __future__ import annotations

from ipaddress import IPv4Address

from dacha.core.lab.table.read import read_lab
from dacha.core.plan.learned import Sighting, followed, learned
from dacha.core.plan.plan import Plan, make_plan

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
dynamic = "10.77.4.100-10.77.4.120"
[guest.gauge]
memory = "64 MiB"
adapter = [{ network = "pier", address = "10.77.4.20" }]
"""
FLOATING = """\
[guest.{0}]
memory = "64 MiB"
adapter = [{{ network = "pier", address = "dynamic" }}]
door.ssh = {{ from = "lan", port = {1} }}
"""
BUOY, FLOAT = ("buoy", 0), ("float", 0)


def plan(text: str = LAB + FLOATING.format("buoy", 2230) + FLOATING.format("float", 2231)) -> Plan:
    reading = read_lab(text)
    assert reading.lab is not None and not reading.findings
    return make_plan(reading.lab)


def seen(last: int, since: float = 1.0, by: str = "wire") -> Sighting:
    return Sighting(IPv4Address(f"10.77.4.{last}"), since, since, by)


def test_a_door_leads_to_where_its_guest_was_seen() -> None:
    made = plan()
    assert not made.doors["buoy", "ssh"].forwards()
    now = followed(made, learned(made, {BUOY: seen(100)}))
    assert [str(f) for f in now.doors["buoy", "ssh"].forwards()] == ["tcp 0.0.0.0:2230 → 10.77.4.100:22"]
    assert now.adapters[BUOY].address == IPv4Address("10.77.4.100") and made.adapters[BUOY].address is None
    assert not now.doors["float", "ssh"].forwards()


def test_what_is_planned_or_taken_or_foreign_is_not_believed() -> None:
    made = plan()
    for last in (1, 2, 20):
        assert learned(made, {BUOY: seen(last)}) == {}
    foreign = Sighting(IPv4Address("192.0.2.9"), 1.0)
    assert learned(made, {BUOY: foreign, ("gone", 0): seen(101)}) == {}
    # A planned address is never learned over, whatever its guest uses.
    assert learned(made, {("gauge", 0): seen(101)}) == {}


def test_of_two_claims_a_lease_counts_first_and_then_the_older_one() -> None:
    made = plan()
    assert set(learned(made, {BUOY: seen(100, 5.0), FLOAT: seen(100, 4.0)})) == {FLOAT}
    assert set(learned(made, {BUOY: seen(100, 5.0, "lease"), FLOAT: seen(100, 4.0)})) == {BUOY}


def test_a_dynamic_address_needs_somebody_to_hand_it_out() -> None:
    made = plan(LAB.replace('backend = "kernel"\n', "") + FLOATING.format("buoy", 2230))
    assert [f.code for f in made.findings] == ["dynamic-user-mode"]
    made = plan(LAB.replace('dynamic = "10.77.4.100-10.77.4.120"\n', "") + FLOATING.format("buoy", 2230))
    (finding,) = made.findings
    assert finding.code == "dynamic-no-range" and 'dynamic = "10.77.4.128-10.77.4.254"' in finding.remedy


def test_an_address_that_was_granted_to_another_guest_is_that_ones() -> None:
    """The first has gone, and its address was given to the next by the LAN's own server."""
    made = plan()
    before, now = seen(100, 4.0, "lease"), seen(100, 5000.0, "lease")
    assert set(learned(made, {BUOY: before, FLOAT: now})) == {FLOAT}
    # So it is where only its use was seen, once the other has been silent for long enough.
    assert set(learned(made, {BUOY: before, FLOAT: seen(100, 5000.0)})) == {FLOAT}
    assert set(learned(made, {BUOY: before, FLOAT: seen(100, 100.0)})) == {BUOY}
