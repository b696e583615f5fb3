"""Ways into a guest that no door leads to: through another guest, and through the hypervisor."""

from __future__ import annotations

import subprocess

import pytest

from tests.conftest import PROGRAM
from tests.faults.rig import LAB
from tests.networks.test_kernel_nat import on_console
from tests.networks.world import HostedLab

TWO = (
    LAB.partition("[guest.charts]")[0]
    + """\
[guest.charts]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.30" }]
"""
)


@pytest.mark.whole
def test_a_guest_without_a_door_is_entered_through_another(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(TWO)
    lab("apply")
    # Its key is known too: whoever stands between could not put another one in its place.
    done = lab("connect", "charts", "--", "hostname; whoami", timeout=240)
    assert done.out == "charts\nops\n" and "no ssh door; connecting through gauge" in done.err
    assert "yes" in lab("connect", "charts", "--through", "gauge", "--user", "ops", "--", "echo yes").out
    shown = lab("connect", "charts", "--through", "gauge", "--show").out
    assert "StrictHostKeyChecking=yes" in shown and "-W 10.77.4.30:22" in shown
    # What it tells of itself, too, comes through the other guest: it has no agent and no ssh door.
    on_console(lab, "charts", "kill $(pidof httpd); sleep 1; httpd -p 127.0.0.1:80")
    lab("door", "add", "charts", "http")
    lab("apply", "--no-wait")
    hop = next(h for h in lab("trace", "charts", "http", "--json", code=1).json["hops"] if h["name"] == "service")
    assert "listens only on 127.0.0.1" in hop["seen"] and "dacha connect charts" in hop["remedy"], hop
    lab("door", "remove", "charts", "http")
    lab("apply")
    on_console(lab, "charts", "kill $(pidof dropbear); dropbear -R -s")
    refused = lab("connect", "charts", "--", "hostname", code=255)
    assert refused.out == "" and "verification failed" in refused.err.lower()

    for words, said in (
        (("--by", "ssh"), "charts has no ssh door"),
        (("--through", "charts"), "charts does not lead to charts"),
        (("--through", "gague"), "did you mean gauge?"),
        (("--by", "agent"), "has no interactive shell"),
        (("--by", "agent", "--user", "kim"), "cannot be combined with this option"),
    ):
        assert said in lab("connect", "charts", *words, code=2).err
    assert "--by agent" in lab("connect", "charts", "--by", "console", "--", "ls", code=2).err
    assert "no guest agent answers in charts" in lab("connect", "charts", "--by", "agent", "--", "id", code=1).err
    lab("stop", "gauge", "--force", "--wait", "0s")
    alone = lab("connect", "charts", "--", "id", code=2).err
    assert "dacha door add charts ssh" in alone
    # A person is led to its console, and told so.
    argv = lab.world.inside("host", "script", "-qec", f"{PROGRAM} connect charts", "/dev/null")
    typed = subprocess.run(
        argv, cwd=lab.folder, env=lab.env, input=b"\x1d", capture_output=True, timeout=60, check=False
    )
    assert b"using its console" in typed.stdout and b"Detached from the console of charts" in typed.stdout, typed
    assert "shares a network" in lab("connect", "charts", "--through", "gauge", "--", "id", code=1).err
