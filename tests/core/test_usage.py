"""What guests used over a longer time, from measurements with gaps, restarts and resets: against what was simulated."""

from __future__ import annotations

import random

import pytest

from dacha.core.lab.table.read import read_lab
from dacha.core.network.door_counts import counter_name, door_of
from dacha.core.plan.check import check_lab
from dacha.core.plan.plan import make_plan
from dacha.core.usage.history import Measured, Point, door_totals, from_line, periods, to_line
from dacha.core.usage.usage import DAY_S

EVERY_S, GAP_S = 300.0, 900.0


def simulated(days: int, seed: int) -> tuple[list[Measured], dict[str, float]]:
    """A guest that works, rests, is off at times, and is restarted; and what it really used while it was measured."""
    drawn = random.Random(seed)
    at, run, cpu, read, stored, began = 1e9, 0, 0.0, 0, 1 << 30, 1e9
    true = {"on": 0.0, "cpu": 0.0, "read": 0.0}
    rows: list[Measured] = []
    on = False
    while at < began + days * DAY_S:
        if drawn.random() < 0.02:
            on = not on
            run, cpu, read = run + 1, 0.0, 0
        elif on and rows:
            used, got = drawn.random() * EVERY_S, drawn.randrange(1 << 20)
            cpu, read = cpu + used, read + got
            true["on"], true["cpu"], true["read"] = true["on"] + EVERY_S, true["cpu"] + used, true["read"] + got
        stored += 1 << 16
        point = Point(str(run), cpu, 1 << 20, read, 0, None, None, stored)
        rows.append(Measured(at, {"gauge": point if on else Point(None, 0.0, 0, None, None, None, None, stored)}))
        at += EVERY_S
    return rows, true


@pytest.mark.parametrize("seed", range(5))
def test_a_week_is_what_was_simulated(seed: int) -> None:
    rows, true = simulated(7, seed)
    found = periods([m for row in rows if (m := from_line(to_line(row)))], GAP_S)["gauge"]
    assert found.on_s == pytest.approx(true["on"]) and found.cpu_s == pytest.approx(true["cpu"], abs=1e-6)
    assert found.read == true["read"] and found.received is None
    assert found.cpu == pytest.approx(true["cpu"] / true["on"]) and found.cpu_peak >= found.cpu
    assert found.memory == pytest.approx(1 << 20) and found.cpu_peak <= 1.0
    assert found.growth == pytest.approx((1 << 16) * DAY_S / EVERY_S)
    assert found.measured_s == pytest.approx(7 * DAY_S - EVERY_S)


def test_gaps_resets_and_damage_add_nothing_that_was_not_measured() -> None:
    def row(at: float, run: str | None, cpu: float, sent: int) -> Measured:
        doors = {("gauge", "ssh"): (sent, 2 * sent)}
        return Measured(at, {"gauge": Point(run, cpu, 5, sent, sent, sent, sent, 100)}, doors)

    # The host slept for a day; then the network was created again, so that its counters began at zero.
    rows = [row(0, "1.1", 10, 100), row(300, "1.1", 20, 300), row(90_000, "1.1", 50, 50), row(90_300, "2.9", 3, 60)]
    found = periods(rows, GAP_S)["gauge"]
    assert (
        found.cpu == pytest.approx(10 / 300)
        and found.measured_s == 600
        and found.on_s == 300
        and found.cpu_s == pytest.approx(43.0)
    )
    assert found.sent == 200 + 50 + 60
    assert door_totals([m for r in rows if (m := from_line(to_line(r)))]) == {("gauge", "ssh"): (260, 520)}
    # A clock that was set back, a line that was cut, one of nobody.
    assert periods([row(0, "1.1", 1, 1)], GAP_S)["gauge"].growth is None
    assert periods([], GAP_S) == {} and door_totals([]) == {}
    for line in ("", "{", '{"at": 1}', '{"at": "x", "guests": {}}', '{"at": 1, "guests": {"a": [1]}}', "[]", "7"):
        assert from_line(line) is None


def test_counters_have_the_names_of_their_doors() -> None:
    name = counter_name("in", "tide-gauge-2", "ssh-admin")
    assert "-" not in name and door_of(name) == ("in", "tide-gauge-2", "ssh-admin")
    assert door_of("something") is None and door_of("x.y.z") is None


def test_a_port_of_a_door_is_none_for_collectors() -> None:
    text = (
        '[lab]\nname = "real"\n[usage]\nport = 2220\n[network.pier]\nkind = "nat"\n[guest.gauge]\nmemory = "1 GiB"\n'
        'adapter = [{ network = "pier" }]\ndoor.ssh = { from = "host", port = 2220 }\n'
    )
    lab = read_lab(text).lab
    assert lab and "usage-port" in {f.code for f in check_lab(lab, make_plan(lab))}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('every = "1 s"', "is out of range"), ('keep = "1 h"', "is out of range"), ("port = 0", "port"),
        ('listen = "0.0.0.0"', "unknown key"), ('every = "often"', "often"),
    ],
)  # fmt: skip
def test_a_wrong_table_is_named(text: str, said: str) -> None:
    findings = read_lab(f'[lab]\nname = "real"\n[usage]\n{text}\n').findings
    assert any(said in f"{f.what} {f.remedy}" for f in findings), findings
