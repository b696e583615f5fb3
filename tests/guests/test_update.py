"""dacha guest update, with a stand-in for a package manager: the tiny guest has none of its own."""

from pathlib import Path

from dacha.core.inside.updates import Updates, read_answers, script
from tests.attacks.field import on_console
from tests.conftest import Lab

LAB = """\
[lab]
name = "updates"
[network.pier]
kind = "nat"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier" }]
door.ssh = { from = "host" }
[guest.tower]
memory = "64 MiB"
adapter = [{ network = "pier" }]
"""
# Three packages, one for security, one that is held back; what is installed is noted in a file.
APT = r"""#!/bin/sh
case "$*" in
  *update*) [ ! -e /tmp/old ] || { printf "W: Failed to fetch pier.example: no such name\nW: old\n" >&2; }
    [ ! -e /tmp/offline ] || { echo "E: no route to pier.example" >&2; exit 100; } ;;
  *-s*upgrade*)
    [ -e /tmp/done ] || echo "Inst tides [1.0] (1.1 Pier:1/stable [all])"
    [ -e /tmp/done ] || echo "Inst gauge [2.0] (2.1 Pier-Security:1/stable-security [amd64])"
    echo "Inst held [3.0] (3.1 Pier:1/stable [all])" ;;
  *upgrade*) echo "$*" > /tmp/done ;;
esac
"""
SUDO = '#!/bin/sh\n[ "$1" = -n ] && shift\nexec "$@"\n'


def put(lab: Lab, path: str, text: str) -> None:
    quoted = text.replace("'", "'\\''")
    on_console(Path(lab.env["DACHA_RUN"]) / "updates/gauge", f"printf %s '{quoted}' > {path}; chmod 755 {path}", 60)


def test_updates_are_counted_installed_and_never_claimed(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("apply", "--no-wait")
    lab("stop", "tower", "--force", "--wait", "0s")
    lab("apply")
    assert "does not become root without a password" in lab("guest", "update", "gauge", "--check", code=1).out
    on_console(Path(lab.env["DACHA_RUN"]) / "updates/gauge", "chmod 1777 /tmp", 60)
    put(lab, "/usr/bin/sudo", SUDO)
    assert "no known package manager" in lab("guest", "update", "gauge", "--check").out
    put(lab, "/usr/bin/apt-get", APT)
    said = lab("guest", "update", "--all", "--check").out
    assert "3 updates, 1 for security pending: tides, gauge, held" in said and "off, not asked: tower" in said
    rows = {r["guest"]: r for r in lab("guest", "update", "--all", "--check", "--json").json["guests"]}
    assert rows["gauge"]["security"] == ["gauge"] and rows["gauge"]["installed"] == [] and rows["tower"]["why"] == "off"
    (row,) = lab("guest", "update", "gauge", "--json").json["guests"]
    assert row["installed"] == ["tides", "gauge"] and row["pending"] == ["held"]
    assert "--force-confold upgrade" in lab("connect", "gauge", "--", "cat /tmp/done").out
    assert "1 update installed, 1 held back" in lab("guest", "update", "gauge").out
    lab("connect", "gauge", "--", "touch /tmp/offline")
    said = lab("guest", "update", "gauge", code=1).out
    assert "its package lists cannot be updated: E: no route to pier.example" in said
    # As apt does without a network, unless it is told otherwise: a warning, and success.
    lab("connect", "gauge", "--", "rm /tmp/offline; touch /tmp/old")
    said = lab("guest", "update", "gauge", code=1).out
    assert "its package lists cannot be updated: W: Failed to fetch pier.example: no such name" in said
    assert lab("guest", "update", code=2).err and lab("guest", "update", "none", code=2).err


def test_an_answer_that_is_cut_off_is_no_answer() -> None:
    whole = "update manager apt\nupdate pending !gauge\nupdate pending tides\nupdate restart kernel\nupdate end\n"
    assert read_answers(whole) == Updates("apt", ("gauge", "tides"), ("gauge",), restart=("kernel",))
    assert read_answers(whole[:-12]) is None and read_answers("") is None
    assert "install || failed" in script(install=True) and "[ no = yes ]" in script(install=False)
