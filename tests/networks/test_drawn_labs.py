"""Labs drawn at random: what `reach` says and whom `allow` names are what packets meet, in every cell."""

from __future__ import annotations

import pytest

from dacha.core.lab.names import link_name
from tests.networks.drawn_labs import HOST, Machines, draw, settle, wrong_cells, wrong_doors
from tests.networks.world import HostedLab


@pytest.mark.parametrize(
    "seeds", [range(3), pytest.param(range(100), marks=pytest.mark.whole)], ids=["three", "a hundred"]
)
def test_every_cell_and_every_allowed_address_is_as_the_lab_says(hosted: HostedLab, seeds: range) -> None:
    lab, world = hosted, hosted.world
    world.run("host", "ip", "address", "add", f"{HOST[1]}/24", "dev", "eth0")
    wrong, tried = [], 0
    for seed in seeds:
        drawn = draw(seed)
        lab.write(drawn.text)
        assert not lab("check", "--json", code=None).json["errors"], (drawn.text, lab("check", code=None).out)
        settle(drawn, lab("address", "list", "--json").json["addresses"])
        lab("apply", "--no-wait")
        lab("stop", "--all", "--force", "--wait", "0s")
        machines = Machines(world, drawn, {n: link_name("real", "network", n) for n in drawn.networks})
        try:
            lab("apply", "--no-wait")
            for found, count in (
                wrong_doors(drawn, machines), wrong_cells(drawn, machines, lab("reach", "--json").json)
            ):  # fmt: skip
                wrong += [f"lab {seed}: {w}" for w in found]
                tried += count
        finally:
            machines.close()
        assert not wrong, "\n".join([*wrong, drawn.text])
    print(f"\n{len(seeds)} labs, {tried} connections tried, {len(wrong)} not as said")
