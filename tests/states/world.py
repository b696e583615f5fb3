"""A lab with a real guest that shows whether it goes on where it was: a counter that only its memory holds."""

from __future__ import annotations

import re
import textwrap
from pathlib import Path

from dacha.hypervisor.monitor.agent import answers
from tests.attacks.field import on_console
from tests.conftest import Lab
from tests.networks.world import until

LAB = """\
[lab]
name = "states"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
disk = [{ size = "32 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
stop-after = "2 s"
door.ssh = { from = "host" }
"""
# It answers what is asked about the clock, as an agent does, and sets it.
AGENT = textwrap.dedent("""\
    exec 3<>$(ls /dev/vport*p1)
    while :; do while read -r line <&3; do
      case $line in
        *sync-delimited*) id=${line##*: }; printf '\\377{"return": %s}\\n' ${id%%\\}*} >&3 ;;
        *set-time*) t=${line##*\\"time\\": }; date -u -s @${t%%?????????\\}*} > /dev/null
                    printf '{"return": {}}\\n' >&3 ;;
        *get-time*) printf '{"return": %s500000000}\\n' $(date -u +%s) >&3 ;;
        *) printf '{"return": {}}\\n' >&3 ;;
      esac
    done; usleep 50000; done
""")


def run_folder(lab: Lab, guest: str = "gauge") -> Path:
    return Path(lab.env["DACHA_RUN"]) / "states" / guest


def inside(lab: Lab, command: str, guest: str = "gauge") -> str:
    """Run a command as root in the guest; its output. A guest that has just started may lose a part of what is typed:
    the command waits until its shell answers."""
    run = run_folder(lab, guest)
    until(lambda: on_console(run, "echo re''ady").split()[-1:] == ["ready"])
    return on_console(run, command).strip()


def counting(lab: Lab) -> None:
    """Let the guest count in its memory from now on."""
    inside(lab, "mkdir -p /run; { (i=0; while :; do i=$((i+1)); echo $i > /run/count; usleep 200000; done) & }")
    until(lambda: count(lab) > 0)


def count(lab: Lab) -> int:
    """How far it has counted; 0 if it does not count, as after a boot. The file is empty while it is written."""
    return int(until(lambda: re.findall(r"^\d+", inside(lab, "cat /run/count 2> /dev/null || echo 0"), re.M))[-1])


def with_agent(lab: Lab, agent: str = AGENT) -> None:
    inside(lab, f"cat > /run/agent.sh <<'END'\n{agent}END\n{{ sh /run/agent.sh > /dev/null 2>&1 & }}")
    until(lambda: answers(run_folder(lab), 5.0))


def state(lab: Lab, guest: str = "gauge") -> str:
    listed = lab("status", "--json", code=None).json["guests"]
    return str(next(g["state"] for g in listed if g["name"] == guest))
