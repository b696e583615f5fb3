"""What `status --usage` says is what other counters say: of a load of known size, on a network with counters."""

from __future__ import annotations

import json
import os
import time
from pathlib import Path

import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from tests.attacks.field import on_console
from tests.networks.world import PYTHON, HostedLab, until

LAB = """\
[lab]
name = "usage"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
disk = [{ size = "64 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "host" }
[guest.heron]
memory = "64 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.21" }]
"""


def metrics(lab: HostedLab) -> dict[tuple[str, str], float]:
    """Each sample by its name and guest, as a reader of the format has them."""
    text = lab("status", "--metrics", "-").out
    return {
        (sample.name, sample.labels.get("guest", "")): sample.value
        for family in text_string_to_metric_families(text)
        for sample in family.samples
    }


def grew(before: dict[tuple[str, str], float], after: dict[tuple[str, str], float], name: str) -> float:
    return after[name, "gauge"] - before[name, "gauge"]


def accounted(group: Path) -> float:
    """The processor time of a control group, by the kernel's own accounting (seconds)."""
    if (group / "cpuacct.usage").exists():
        return int((group / "cpuacct.usage").read_text()) / 1e9
    told = dict(line.split() for line in (group / "cpu.stat").read_text().splitlines())
    return int(told["usage_usec"]) / 1e6


@pytest.mark.guest
def test_usage_is_what_the_kernel_counts(hosted: HostedLab) -> None:
    lab = hosted
    lab.write(LAB)
    lab("apply")
    lab("stop", "heron", "--force", "--wait", "0s")
    run = Path(lab.env["DACHA_RUN"]) / "usage/gauge"
    # Processor time, against the accounting of a control group.
    base = Path("/sys/fs/cgroup/cpuacct")
    group = (base if base.is_dir() else base.parent) / f"dacha-usage-{os.getpid()}"
    group.mkdir()
    try:
        (group / "cgroup.procs").write_text(str(lab.pid("gauge")))
        on_console(run, "{ (while :; do :; done) & }")
        began, before, begun = accounted(group), metrics(lab), accounted(group)
        time.sleep(4)
        ending, after, ended = accounted(group), metrics(lab), accounted(group)
        used = grew(before, after, "dacha_guest_cpu_seconds_total")
        assert used > 1.0
        # Its accounting surrounds ours, and ours its own.
        assert (ending - begun) * 0.95 <= used <= (ended - began) * 1.05
        shown = lab("status", "--usage", "--json", code=None).json
        gauge = next(g for g in shown["usage"] if g["name"] == "gauge")
        assert gauge["cpus_used"] > 0.3 and gauge["resident_bytes"] > 64 << 20 and gauge["unknown"]
        on_console(run, "killall sh; true")
    finally:
        (group.parent / "cgroup.procs").write_text(str(lab.pid("gauge")))
        until(lambda: not (group / "cgroup.procs").read_text())
        group.rmdir()
    # Traffic and disk writes of known size.
    before = metrics(lab)
    # Fewer packets than the queue of a link holds: none is dropped, however slow the guest is.
    size = 768 << 10
    code = (
        "import socket,time\ns=socket.socket(socket.AF_INET,socket.SOCK_DGRAM)\n"
        f"for n in range({size // 1024}):\n s.sendto(bytes(1024),('10.77.4.20',9))\n n%64 or time.sleep(0.002)\n"
    )
    lab.world.run("host", *PYTHON, "-c", code)
    mark = "d=$(mount | sed -n 's,^/dev/vda on \\([^ ]*\\) .*,\\1,p')"
    on_console(run, f"{mark}; dd if=/dev/urandom of=$d/x bs=1024k count=6 2> /dev/null; sync")
    after = metrics(lab)
    received = (
        after["dacha_guest_network_received_bytes_total", "gauge"]
        - before["dacha_guest_network_received_bytes_total", "gauge"]
    )
    headers = size // 1024 * 42
    assert (size + headers) * 0.95 < received < (size + headers) * 1.05, received
    written = (
        after["dacha_guest_disk_written_bytes_total", "gauge"] - before["dacha_guest_disk_written_bytes_total", "gauge"]
    )
    assert 6 << 20 <= written < 7 << 20, written
    # One that is off is said to be off; what is not known has its reason.
    assert after["dacha_guest_running", "heron"] == 0 and after["dacha_guest_running", "gauge"] == 1
    out = lab("status", "--usage").out
    assert [line.split()[1] for line in out.splitlines() if line.startswith("heron")] == ["off"]
    assert "no guest agent says it" in out and "promised" in out
    # A file for a collector is replaced as a whole.
    lab("status", "--metrics", "usage.prom")
    assert (lab.folder / "usage.prom").read_text().endswith("# EOF\n")
    assert json.loads(lab("status", "--usage", "--json", code=None).out)["resources"]["cpus"] > 0
