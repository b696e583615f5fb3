"""A change that would take a running guest's network away is told beforehand, and asked about."""

from __future__ import annotations

from tests.networks.world import HostedLab

LAB = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
[guest.charts]
memory = "32 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.21" }]
"""


def works(lab: HostedLab) -> bool:
    doors = lab("status", "gauge", "--json", code=None).json["guests"][0]["doors"]
    return bool(doors[0]["answers"])


def test_running_guests_are_not_cut_off_without_a_word(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB)
    lab("apply", timeout=300)
    lab("stop", "charts", "--force", "--wait", "0s")
    text = lab.file.read_text()
    for edit in (("--backend", "user"), ("--renumber", "10.79.0.0/24")):
        said = lab("network", "edit", "pier", *edit).err
        assert (
            "warning: once applied, this disconnects gauge from pier at once" in said and "dacha restart gauge" in said
        )
        assert "this disconnects gauge from pier" in lab("diff").err
        said = lab("apply", code=2).err
        assert "this disconnects gauge from pier" in said and "--yes" in said, said  # nobody can be asked here
        for command in (("start", "charts", "--no-wait"), ("restart", "gauge")):
            said = lab(*command, code=2).err
            assert "network pier was changed in lab.toml since the last apply" in said and "dacha apply" in said
        lab.file.write_text(text)
        # Nothing was changed.
        assert lab("diff").out == "real: everything applied\n" and works(lab)
    # With a yes it is done, and the restart that was printed ends it.
    said = lab("network", "edit", "pier", "--renumber", "10.79.0.0/24").out
    assert "then dacha restart gauge: running guests have no network until" in said, said
    lab("apply", "--yes", "--no-wait")
    assert not works(lab) and "cuts" not in lab("diff").err
    lab("restart", "gauge", "--force", "--wait", "0s", timeout=300)
    assert works(lab)
