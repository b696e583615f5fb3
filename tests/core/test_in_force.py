"""What holds now: a guest that runs keeps what it was started with; what a door waits for is named."""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import Any

import pytest

from dacha.core.apply.changes import (
    ChangeMachine,
    CloseForward,
    Forwarding,
    LoadRules,
    MakeLink,
    OpenForward,
    ReattachTap,
)
from dacha.core.apply.difference import difference
from dacha.core.apply.in_force import in_force
from dacha.core.apply.machine import Machine, machine
from dacha.core.apply.observed import ON, ObservedGuest
from dacha.core.apply.waiting import APPLY, START, moves, still_open, waiting
from dacha.core.lab.table.read import read_lab
from dacha.core.network.links import TapLink
from dacha.core.plan.plan import Plan, make_plan

USER = """\
[lab]
name = "lab"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[network.quay]
kind = "nat"
subnet = "10.77.5.0/24"
[guest.gauge]
memory = "1 GiB"
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "host", port = 2220 }
"""
KERNEL = USER.replace('kind = "nat"\n', 'kind = "nat"\nbackend = "kernel"\n')
KEY = ("gauge", "ssh")


def planned(text: str) -> tuple[Any, Plan, Machine]:
    lab = read_lab(text).lab
    assert lab is not None
    plan = make_plan(lab)
    return lab, plan, machine(lab, plan, lab.guests["gauge"], accelerator="tcg", files={})


def held(before: str, after: str) -> tuple[Plan, Plan]:
    """The plan of the later text, and what holds of it while the guest runs that the earlier one started."""
    _, _, started = planned(before)
    lab, plan, _ = planned(after)
    return plan, in_force(lab, plan, {"gauge": started})


@pytest.mark.parametrize("text", [USER, KERNEL])
def test_an_address_moves_at_the_next_start_and_its_doors_with_it(text: str) -> None:
    plan, now = held(text, text.replace("10.77.4.20", "10.77.4.21"))
    assert str(plan.doors[KEY].forwards()[0].address) == "10.77.4.21"
    assert str(now.doors[KEY].forwards()[0].address) == "10.77.4.20"
    assert str(now.adapters["gauge", 0].address) == "10.77.4.20"
    assert moves(plan.doors[KEY], now.doors[KEY]) == "10.77.4.21; until then 10.77.4.20"
    assert waiting(plan.doors[KEY], now.doors[KEY], []) is None
    # Nothing changed: nothing is another value.
    assert in_force(*planned(text)[:2], {"gauge": planned(text)[2]}) == planned(text)[1]


def test_a_door_that_leads_by_another_backend_waits_for_the_next_start() -> None:
    plan, now = held(USER, KERNEL)
    assert now.doors[KEY].means == "none" and plan.doors[KEY].means == "forward"
    found = waiting(plan.doors[KEY], now.doors[KEY], [ChangeMachine("gauge", "tap none → dt1", "adapters")])
    assert found and found.until == START and found.what == "tap none → dt1"
    assert found.remedy("gauge") == "dacha restart gauge"
    plan, now = held(USER, USER.replace('network = "pier", address = "10.77.4.20"', 'network = "quay"'))
    assert now.adapters["gauge", 0].network == "pier" and now.doors[KEY].forwards()[0].address == IPv4Address(
        "10.77.4.20"
    )
    assert "until then 10.77.4.20 on pier" in str(moves(plan.doors[KEY], now.doors[KEY]))


def test_an_adapter_that_the_guest_has_not_yet_leads_nowhere() -> None:
    two = USER.replace(
        'adapter = [{ network = "pier", address = "10.77.4.20" }]',
        'adapter = [{ network = "pier", address = "10.77.4.20" }, { network = "quay", address = "10.77.5.20" }]',
    ).replace('from = "host", port', 'from = "host", network = "quay", port')
    plan, now = held(USER, two)
    assert plan.doors[KEY].means == "forward" and now.doors[KEY].means == "none"
    found = waiting(plan.doors[KEY], now.doors[KEY], [])
    assert found and found.until == START


def test_a_running_guest_gets_its_new_door_at_its_old_address_at_once() -> None:
    _, _, started = planned(USER)
    text = USER.replace("10.77.4.20", "10.77.4.21") + 'door.http = { from = "host", port = 8020 }\n'
    lab, plan, wanted = planned(text)
    forwards = frozenset(planned(USER)[1].doors[KEY].forwards())
    seen = ObservedGuest(state=ON, machine=started, forwards=forwards, host_key=True)
    changes = difference(lab, plan, {"gauge": wanted}, {"gauge": seen})
    opened = [c for c in changes if isinstance(c, OpenForward)]
    assert [(c.door, str(c.forward.address)) for c in opened] == [("http", "10.77.4.20")]
    assert not any(isinstance(c, CloseForward) for c in changes)
    assert "address 10.77.4.20 → 10.77.4.21, while it runs" in [str(c) for c in changes]


def test_what_a_door_waits_for_is_named_by_the_change_that_brings_it() -> None:
    plan = planned(KERNEL)[1]
    door = plan.doors[KEY]
    lan = door._replace(door=door.door._replace(origin="lan"))
    tap = TapLink("dt1", "dacha:lab:guest:gauge:0", "fe:00:00:00:00:01", "db1", "gauge", 0)
    for change, what in (
        (LoadRules(1, True, (KEY,)), "not open yet"),
        (LoadRules(1, False), "rules are gone"),
        (Forwarding(True), "forwarding is off"),
        (ReattachTap("gauge", 0, "dt1"), "attach adapter 0"),
        (MakeLink(tap, False), "tap of gauge's adapter"),
    ):
        found = waiting(lan, lan, [change])
        assert found and found.until == APPLY and what in found.what and found.remedy("gauge") == "dacha apply"
    # What concerns others is nothing to it.
    other = tap._replace(guest="charts")
    for change in (LoadRules(1, True), LoadRules(1, True, (("charts", "ssh"),)), MakeLink(other, False),
                   Forwarding(False), ReattachTap("charts", 0, "x")):  # fmt: skip
        assert waiting(lan, lan, [change]) is None
    assert waiting(door, door, [Forwarding(True)]) is None, "a door from this host needs no forwarding"


def test_doors_that_the_file_has_no_more_are_open_until_the_next_apply() -> None:
    forward = planned(USER)[1].doors[KEY].forwards()[0]
    found = still_open([CloseForward("gauge", forward), LoadRules(0, True, (), (("charts", "rdp"),))])
    assert found == [("gauge", str(forward)), ("charts", "rdp")]
