"""What `status --usage` says is what other counters say: of a load of known size, on a network with counters."""

from __future__ import annotations

import json
import os
import time
from pathlib import Path

import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from dacha.core.usage.history import Measured, Point, to_line
from dacha.core.usage.usage import DAY_S
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
        assert used > 0.2  # on a busy machine it gets little
        # Its accounting surrounds ours, and ours its own.
        assert (ending - begun) * 0.95 <= used <= (ended - began) * 1.05
        shown = lab("status", "--usage", "--json", code=None).json
        gauge = next(g for g in shown["usage"] if g["name"] == "gauge")
        assert gauge["cpus_used"] > 0.02 and gauge["resident_bytes"] > 64 << 20 and gauge["unknown"]
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
    # A growth that was measured for days tells when the file system is full.
    days = lab.folder / "state/labs/usage/usage"
    days.mkdir(exist_ok=True)
    for ago in (3, 2, 1):
        point = Point(None, 0.0, 0, None, None, None, None, (10 - ago) << 30)
        at = time.time() - ago * DAY_S
        day = time.strftime("%Y-%m-%d", time.gmtime(at))
        (days / day).write_text(to_line(Measured(at, {"heron": point})) + "\n")
    storage = lab("status", "--usage", "--json", code=None).json["resources"]["storages"][0]
    assert storage["growth_bytes_per_day"] == pytest.approx(1 << 30, rel=0.2)
    assert storage["full_in_days"] == pytest.approx(storage["free_bytes"] / storage["growth_bytes_per_day"], rel=0.01)


COUNTED = LAB.split("[guest.heron]")[0].replace(
    'door.ssh = { from = "host" }',
    'door.ssh = { from = "lan", port = 2220 }\ndoor.page = { service = "http", from = "lan", port = 8080, to = 8081 }',
)


def collected(lab: HostedLab) -> dict[tuple[str, str, str], float]:
    """What a collector on the host reads: each sample by its name, guest and door."""
    code = (
        "import sys, urllib.request as u\nr = u.urlopen('http://127.0.0.1:9750/metrics', timeout=20)\n"
        "assert r.headers['Content-Type'].startswith('application/openmetrics-text')\n"
        "sys.stdout.write(r.read().decode())"
    )
    text = lab.world.run("host", *PYTHON, "-c", code)
    return {
        (sample.name, sample.labels.get("guest", ""), sample.labels.get("door", "")): sample.value
        for family in text_string_to_metric_families(text)
        for sample in family.samples
    }


@pytest.mark.guest
def test_the_caretaker_measures_and_counts_each_door(hosted: HostedLab) -> None:
    lab, world = hosted, hosted.world
    run = Path(lab.env["DACHA_RUN"]) / "usage/gauge"
    lab.write(COUNTED + '[usage]\nevery = "10 s"\nport = 9750\n')
    lab("apply", "--no-wait")
    until(lambda: on_console(run, "echo re''ady").split()[-1:] == ["ready"])
    size = 300_000
    on_console(run, f"head -c {size} /dev/urandom > /run/tides; {{ (while :; do nc -l -p 8081 < /run/tides; done) & }}")
    before = collected(lab)
    # The guest's server is away for a moment after each connection.
    get = f"""
import socket, time
for _ in range(300):
    try:
        s = socket.create_connection(("192.0.2.10", 8080), 30)
        break
    except ConnectionRefusedError:
        time.sleep(0.2)
n = 0
while n < {size} and (d := s.recv(65536)):
    n += len(d)
print(n)
"""
    assert int(world.run("lan", *PYTHON, "-c", get)) == size
    # From this host itself, too.
    assert int(world.run("host", *PYTHON, "-c", get.replace("192.0.2.10", "127.0.0.1"))) == size
    after = collected(lab)
    of_page = ("dacha_door_sent_bytes_total", "gauge", "page")
    sent = after[of_page] - before[of_page]
    packets = 2 * size / 1448 * 52
    assert 2 * size < sent < (2 * size + packets) * 1.05, sent
    of_ssh = ("dacha_door_received_bytes_total", "gauge", "ssh")
    assert after[of_ssh] == before[of_ssh]
    assert lab("status", "--usage", "--json", code=None).json["traffic"][0]["door"] in ("ssh", "page")
    # It keeps what it measured; the rules are as they were loaded, whatever was counted.
    until(lambda: len(next((lab.folder / "state/labs/usage/usage").glob("*")).read_text().splitlines()) >= 3, 60)
    found = lab("status", "--usage", "--since", "1 h", "--json", code=None).json["measured"]
    assert found["usage"][0]["on_s"] >= 10 and found["usage"][0]["cpu_s"] > 0
    assert {t["door"]: t["sent_bytes"] for t in found["traffic"]}["page"] >= 0
    said = lab("status", "--usage", "--since", "1 h").out
    assert "gauge page" in said and "ON FOR" in said
    assert "nothing to do" in lab("apply", "--no-wait").out
    # Without the table it ends, and nothing is counted.
    lab.write(COUNTED)
    lab("apply", "--no-wait")
    tried = "import socket; print(socket.socket().connect_ex(('127.0.0.1', 9750)))"
    until(lambda: world.run("host", *PYTHON, "-c", tried).strip() != "0")
    assert not any(key[0].startswith("dacha_door") for key in metrics(lab))
