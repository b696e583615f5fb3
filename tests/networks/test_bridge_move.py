"""An adapter that becomes a port of a bridge, and is given back: whatever it had, and wherever that was interrupted."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from dacha.host.network.link.state import LinkState
from tests.networks.world import HostedLab, until

LAB = """\
[lab]
name = "real"
[network.quay]
kind = "bridge"
interface = "br7"
made-from = "eth0"
subnet = "192.0.2.0/24"
"""


@pytest.mark.parametrize(
    ("first", "count"), [(101, 1), pytest.param(1, 30, marks=pytest.mark.whole)], ids=["one", "thirty"]
)
def test_an_adapter_has_again_what_it_had_wherever_it_was_interrupted(first: int, count: int) -> None:
    """Adapters drawn at random, each killed before every step of the way there, and of the way back."""
    script = Path(__file__).with_name("odd_links.py")
    done = subprocess.run(
        ["unshare", "-n", sys.executable, script, str(first), str(count)],
        capture_output=True, text=True, timeout=1200, check=False, cwd=script.parents[2],
    )  # fmt: skip
    print(done.stdout)
    assert done.returncode == 0 and len(done.stdout.splitlines()) == 1, done.stdout + done.stderr
    assert int(done.stdout.split()[-2]) >= 15 * count


def test_an_on_link_gateway_survives_a_bridge_that_cannot_be_made_and_one_that_nobody_confirms(
    hosted: HostedLab,
) -> None:
    lab, run = hosted, lambda *words: hosted.world.run("host", "ip", *words)
    run("address", "flush", "dev", "eth0", "scope", "global")
    run("-6", "route", "delete", "default")
    run("address", "add", "203.0.113.7/32", "dev", "eth0")
    run("route", "add", "default", "via", "192.0.2.1", "dev", "eth0", "onlink", "src", "203.0.113.7", "advmss", "1300")
    run("route", "add", "10.9.0.0/16", "dev", "eth0", "table", "100")
    run("link", "set", "eth0", "mtu", "1400")

    def state() -> str:
        return run("address", "show", "eth0") + run("route", "show", "table", "all")

    until(lambda: "tentative" not in run("address"))
    before = state()
    lab.write(LAB)
    lab.env["DACHA_BACK_AFTER"] = "5"
    assert "created bridge br7 over eth0" in lab("apply").out
    assert "default via 192.0.2.1 dev br7 src 203.0.113.7 onlink advmss 1300" in " ".join(run("route").split())
    assert "mtu 1400" in run("link", "show", "br7")
    until(lambda: "br7" not in run("-brief", "link"))
    until(lambda: "nothing waits" in lab("apply", "--confirm", code=1).err)
    assert state() == before
    # Confirmed, it stays; taken out of the file, all is as before. So it is where another program removed the bridge.
    for removed in (False, True):
        lab.write(LAB)
        lab.env["DACHA_BACK_AFTER"] = "60"
        lab("apply")
        lab("apply", "--confirm")
        if removed:
            run("link", "delete", "br7")
            assert "203.0.113.7" not in run("address", "show", "eth0")
            lab.env["DACHA_BACK_AFTER"] = "5"
            lab("apply")
            assert "default via 192.0.2.1 dev br7" in run("route")
        lab.file.write_text('[lab]\nname = "real"\n')
        lab("apply")
        assert state() == before


def test_a_note_without_a_state_goes_back_to_what_the_bridge_has(hosted: HostedLab) -> None:
    """One of an older version, or a damaged one."""
    lab, run = hosted, lambda *words: hosted.world.run("host", "ip", *words)
    until(lambda: "tentative" not in run("address"))
    before = run("-4", "address", "show", "eth0") + run("route")
    lab.write(LAB)
    lab.env["DACHA_BACK_AFTER"] = "4"
    lab("apply")
    note = lab.folder / "state/labs/real/way-back.json"
    told = json.loads(note.read_text())
    note.write_text(json.dumps({k: v for k, v in told.items() if k != "before"}))
    until(lambda: "br7" not in run("-brief", "link"))
    assert run("-4", "address", "show", "eth0") + run("route") == before


def test_a_state_that_is_kept_is_read_again_and_a_damaged_one_refused() -> None:
    state = LinkState("eth0", 1.5, 1500, (), (), {"ipv4/conf/*/rp_filter": "1"})
    assert LinkState.from_record(state.record()) == state
    for broken in ({}, state.record() | {"parts": [[20, "zz"]]}, state.record() | {"parts": [[7, ""]]}):
        with pytest.raises((KeyError, TypeError, ValueError)):
            LinkState.from_record(broken)
