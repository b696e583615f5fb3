"""Desired against observed: which changes, in which order, now or at the next start."""

from typing import Any

import pytest

from dacha.core.apply.changes import LIVE, NEXT_START, kind_of, when_of
from dacha.core.apply.difference import difference
from dacha.core.apply.first_boot import Seeds, digest, first_boot
from dacha.core.apply.machine import Machine, machine
from dacha.core.apply.observed import OFF, ON, ObservedGuest
from dacha.core.lab.table.read import read_lab
from dacha.core.plan.check import HostFacts, check_host, check_lab, promised
from dacha.core.plan.doors import Forward
from dacha.core.plan.plan import make_plan

TEXT = """\
[lab]
name = "lab"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
memory = "1 GiB"
start = { order = 2 }
disk = [{ size = "8 GiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "host", port = 2220 }
[guest.charts]
memory = "2 GiB"
cpus = 2
start = { order = 1 }
adapter = [{ network = "pier", address = "10.77.4.21" }]
login = { user = "ops" }
"""


def setting(text: str = TEXT) -> tuple[Any, Any, dict[str, Machine]]:
    lab = read_lab(text).lab
    assert lab is not None
    plan = make_plan(lab)
    machines = {
        g.name: machine(lab, plan, g, accelerator="tcg", files={}, seeds=Seeds("s")) for g in lab.guests.values()
    }
    return lab, plan, machines


def running(machines: dict[str, Machine], name: str, *forwards: Forward) -> ObservedGuest:
    return ObservedGuest(
        state=ON,
        pid=1,
        machine=machines[name],
        forwards=frozenset(forwards),
        disks=frozenset({("0", 8 << 30)}),
        host_key=True,
        seed="s",
    )


def test_from_nothing_everything_is_made_in_order() -> None:
    lab, plan, machines = setting()
    kinds = [(kind_of(c), c.guest) for c in difference(lab, plan, machines, {})]
    assert kinds == [
        ("make-host-key", "gauge"),
        ("make-disk", "gauge"),
        ("write-seed", "gauge"),
        ("make-host-key", "charts"),
        ("write-seed", "charts"),
        ("start-guest", "charts"),
        ("start-guest", "gauge"),
    ]


def test_applied_means_nothing_to_do() -> None:
    lab, plan, machines = setting()
    (forward,) = plan.doors["gauge", "ssh"].forwards()
    seen = {"gauge": running(machines, "gauge", forward), "charts": running(machines, "charts")}
    assert difference(lab, plan, machines, seen) == []


def test_doors_open_and_close_live_and_the_rest_waits_for_the_next_start() -> None:
    lab, plan, before = setting()
    (old,) = plan.doors["gauge", "ssh"].forwards()
    changed = TEXT.replace("port = 2220", "port = 2233").replace('memory = "1 GiB"', 'memory = "3 GiB"')
    lab, plan, machines = setting(changed)
    seen = {"gauge": running(before, "gauge", old), "charts": running(before, "charts")}
    found = [(kind_of(c), when_of(c), str(c)) for c in difference(lab, plan, machines, seen)]
    assert found == [
        ("close-forward", LIVE, "close tcp 127.0.0.1:2220 → 10.77.4.20:22"),
        ("open-forward", LIVE, "open door ssh: tcp 127.0.0.1:2233 → 10.77.4.20:22"),
        ("change-machine", NEXT_START, "memory 1 GiB → 3 GiB"),
    ]


def test_a_disk_grows_live_and_never_shrinks() -> None:
    lab, plan, before = setting()
    (forward,) = plan.doors["gauge", "ssh"].forwards()
    seen = {"gauge": running(before, "gauge", forward), "charts": running(before, "charts")}
    for size, changes in (("9 GiB", ["grow disk 0 to 9 GiB"]), ("7 GiB", []), ("8 GiB", [])):
        lab, plan, machines = setting(TEXT.replace("8 GiB", size))
        assert [str(c) for c in difference(lab, plan, machines, seen)] == changes


def test_a_moved_address_keeps_the_doors_of_the_running_guest() -> None:
    _, plan, before = setting()
    (old,) = plan.doors["gauge", "ssh"].forwards()
    lab, plan, machines = setting(TEXT.replace("10.77.4.20", "10.77.4.99"))
    seen = {"gauge": running(before, "gauge", old), "charts": running(before, "charts")}
    found = difference(lab, plan, machines, seen)
    assert [(kind_of(c), str(c)) for c in found] == [("change-machine", "address 10.77.4.20 → 10.77.4.99")]


def test_an_address_alone_changes_while_the_guest_runs_and_nothing_more_with_it() -> None:
    _, plan, before = setting()
    (old,) = plan.doors["gauge", "ssh"].forwards()
    had = {**before["gauge"], "seed": "a", "seed_without_addresses": "b"}

    def found(text: str, **more: str) -> list[str]:
        lab, plan, machines = setting(text)
        wanted = {**machines, "gauge": {**machines["gauge"], "seed": "c", "seed_without_addresses": "b", **more}}
        seen = {"gauge": running({"gauge": had}, "gauge", old), "charts": running(before, "charts")}  # type: ignore
        return [kind_of(c) for c in difference(lab, plan, wanted, seen) if c.guest == "gauge"]  # type: ignore

    moved = TEXT.replace("10.77.4.20", "10.77.4.99")
    assert found(moved) == ["change-address"]
    # With more memory, that waits for the next start; with another login, everything does.
    assert found(moved.replace('memory = "1 GiB"', 'memory = "3 GiB"')) == ["change-address", "change-machine"]
    assert set(found(moved, seed_without_addresses="d")) == {"change-machine"}


def test_a_guest_left_off_stays_off_and_one_that_died_is_started() -> None:
    lab, plan, machines = setting()
    ready = ObservedGuest(state=OFF, disks=frozenset({("0", 8 << 30)}), host_key=True, seed="s")
    seen = {"gauge": ready._replace(stopped_on_purpose=True), "charts": ready}
    assert [(kind_of(c), c.guest) for c in difference(lab, plan, machines, seen)] == [("start-guest", "charts")]


def test_a_guest_no_longer_in_the_file_is_stopped() -> None:
    lab, plan, machines = setting()
    seen = {"gone": ObservedGuest(state=ON, pid=3), "past": ObservedGuest()}
    kinds = [kind_of(c) for c in difference(lab, plan, machines, seen) if c.guest in seen]
    assert kinds == ["stop-guest"]


def test_what_a_guest_is_told_names_every_address_once() -> None:
    lab, plan, _ = setting()
    told = first_boot(lab, plan, lab.guests["gauge"], keys=["ssh-ed25519 AAAA"], host_key="ssh-ed25519 BBBB")
    assert told["adapters"][0] | {"hardware_address": ""} == {
        "hardware_address": "",
        "address": "10.77.4.20/24",
        "address6": None,
        "gateway": "10.77.4.1",
        "gateway6": None,
        "name_servers": ["10.77.4.2"],
    }
    assert digest(told) == digest(dict(reversed(told.items()))) != digest(told | {"user": "x"})


def test_promises_beyond_the_host_are_findings_with_numbers() -> None:
    lab, _plan, _ = setting()
    assert promised(lab) == (3, 3 << 30, 8 << 30)
    facts = HostFacts(cpus=1, memory=2 << 30, memory_free=1 << 30, disk_free={"/store": 4 << 30})
    said = {f.code: f.what for f in check_host(lab, facts, {"/store": 8 << 30})}
    assert said["memory-promised"] == "the guests have 3 GiB of memory in total; this host has 2 GiB"
    assert said["disk-promised"] == "the disks may grow by 8 GiB; 4 GiB is free in /store"
    assert said["cpus-many"] == "2 virtual CPUs, but this host has 1"
    assert check_host(lab, HostFacts(8, 64 << 30, 1 << 30, {"/store": 1 << 40}), {"/store": 8 << 30}) == []


def test_packages_from_this_host_need_its_network_to_open_that() -> None:
    text = TEXT.replace("[guest.gauge]", '[guest.gauge]\nsetup = { mirror = "http://10.77.4.1:3142/debian" }', 1)
    for more, shut in (("", True), ('\nto-host = ["tcp 3142"]', False), ('\nto-host = ["http"]', True)):
        lab = read_lab(text.replace('kind = "nat"', f'kind = "nat"{more}', 1)).lab
        assert lab is not None
        found = [f for f in check_lab(lab, make_plan(lab)) if f.code == "mirror-shut"]
        assert bool(found) is shut, more
        assert not shut or 'to-host = ["tcp 3142"]' in found[0].remedy


def test_what_the_file_alone_tells() -> None:
    lab, plan, _ = setting()
    codes = {(f.code, f.subject) for f in check_lab(lab, plan)}
    assert codes == {
        ("login-missing", "guest gauge"),
        ("login-keys", "guest charts"),
        ("nothing-to-boot", "guest charts"),
    }


@pytest.mark.parametrize(
    ("login", "more", "code"),
    [
        ("root", "", "login-root"), ("root", "first-boot = false", None), ("ops", "", None),
        ("ops", 'setup = { user = [{ name = "ops", groups = ["tides"] }] }', "login-twice"),
        ("ops", 'setup = { user = [{ name = "kim" }] }', None),
    ],
)  # fmt: skip
def test_a_login_that_first_boot_data_would_undo_is_refused(login: str, more: str, code: str | None) -> None:
    """Root is disabled by it, and a second entry for the login's own user loses one of the two."""
    text = TEXT.replace("[guest.gauge]", f'[guest.gauge]\n{more}\nlogin = {{ user = "{login}", keys = ["id.pub"] }}', 1)
    lab = read_lab(text).lab
    assert lab is not None
    found = [f for f in check_lab(lab, make_plan(lab)) if f.code in ("login-root", "login-twice")]
    assert [f.code for f in found] == ([code] if code else []) and all(f.remedy for f in found)
