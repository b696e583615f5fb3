"""What only a whole host shows: service manager, boots and shutdowns, power cuts, its own kernel and control groups.

`make host-tests`. The guests in it are virtualized by KVM, on the outer hypervisor's emulation of the processor's own
support: one that boots Linux takes two minutes. Where a guest need not answer, it is one without anything to boot.
"""

from __future__ import annotations

import json
import os
import random
import time
from typing import Any

import pytest

from tests.networks.world import until
from tests.whole_host.conftest import DACHA, Hung, WholeHost

pytestmark = pytest.mark.whole
EMPTY = 'memory = "32 MiB"\nvideo = false\ndisk = [{ size = "1 MiB" }]\nstop-after = "3 s"\n'
LAB = f"""\
[lab]
name = "tides"
accelerator = "kvm"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
dynamic = "10.77.4.100-10.77.4.120"
[guest.gauge]
memory = "128 MiB"
video = false
boot = {{ kernel = "/opt/dacha/guest/vmlinux", initrd = "/opt/dacha/guest/initrd.cpio", command-line = "@LINE@" }}
login = {{ user = "ops", keys = ["id.pub"] }}
disk = [{{ size = "64 MiB" }}]
adapter = [{{ network = "pier", address = "10.77.4.10" }}]
door.web = {{ service = "http", from = "lan", port = 8010 }}
start = {{ at-boot = true, order = 1, ready-within = "10 min" }}
[guest.heron]
{EMPTY}adapter = [{{ network = "pier", address = "10.77.4.11" }}]
door.web = {{ service = "http", from = "lan", port = 8011 }}
start = {{ at-boot = true, order = 2, ready-within = "5 s" }}
[guest.tern]
{EMPTY}start = {{ at-boot = true, order = 3 }}
"""
ORDINARY = f"""\
[lab]
name = "kims"
accelerator = "kvm"
[guest.plover]
{EMPTY}start = {{ at-boot = true }}
"""
AS_KIM = "runuser -u kim -- env XDG_RUNTIME_DIR=/run/user/$(id -u kim) "
# Power cuts at random moments: DACHA_CUTS for more.
CUTS = int(os.environ.get("DACHA_CUTS", "4"))
# How often in a row the emulated host may hang by itself after a cut, as its kernel does on a busy machine.
HANGS = 2


@pytest.fixture(scope="module")
def host(whole_host: WholeHost) -> WholeHost:
    """The host with the lab, its caretaker a service of the host; and one of an ordinary user's, with lingering."""
    host = whole_host
    line = host.sh("cat /opt/dacha/guest/command-line").out
    host.sh("ssh-keygen -q -t ed25519 -N '' -f /root/id")
    host.write("/root/lab.toml", LAB.replace("@LINE@", line))
    assert "no problems" in host.dacha("check").out or "note:" in host.dacha("check").out
    host.dacha("apply --no-wait")
    # A caretaker runs already: the service takes its place.
    host.dacha("caretaker install")
    host.sh("useradd -m -G kvm kim && loginctl enable-linger kim")
    host.write("/home/kim/lab.toml", ORDINARY)
    until(lambda: host.sh("test -S /run/user/$(id -u kim)/systemd/private", None).code == 0)
    host.sh(f"cd /home/kim && {AS_KIM} {DACHA} apply --no-wait && {AS_KIM} {DACHA} caretaker install")
    return host


def state(host: WholeHost) -> dict[str, Any]:
    """What must be the same after whatever happens: disks, keys, addresses, ports, leases."""
    folder = "/var/lib/dacha/labs/tides"
    names = host.sh(f"cd {folder}/guests && sha256sum */host_key.pub && ls */disk-*").out
    listed = host.dacha("guest list --json").json["guests"]
    return {
        "files": names,
        "addresses": [a["address"] for g in listed for a in g["adapters"]],
        "hardware": [a["hardware_address"] for g in listed for a in g["adapters"]],
        "doors": [(d["name"], d["port"]) for g in listed for d in g["doors"]],
        "known": host.sh(f"cut -d ' ' -f 2- {folder}/known_hosts | sort").out,
    }


def all_on(host: WholeHost) -> None:
    until(lambda: set(host.guests().values()) == {"on"}, 900)


def test_the_service_is_sound_and_takes_the_running_caretakers_place(host: WholeHost) -> None:
    shown = host.sh("systemctl show dacha-tides -p NRestarts -p ActiveState -p MainPID").out
    assert "NRestarts=0" in shown and "ActiveState=active" in shown
    pid = host.dacha("caretaker status --json").json["pid"]
    assert f"MainPID={pid}\n" in shown
    assert host.sh("systemd-analyze verify /etc/systemd/system/dacha-tides.service 2>&1").out == ""
    level = float(host.sh("systemd-analyze security dacha-tides | tail -n 1").out.split("service: ")[1].split()[0])
    assert level < 5.0, level
    assert "everything applied" in host.dacha("diff").out
    # An ordinary user's, by that user's own manager.
    shown = host.sh(f"{AS_KIM} systemctl --user show dacha-kims -p NRestarts -p ActiveState").out
    assert "NRestarts=0" in shown and "ActiveState=active" in shown
    # Stopped, it stays so until it is started again.
    assert "has stopped" in host.dacha("caretaker stop").out
    host.sh("sleep 3")
    assert "not running" in host.dacha("caretaker status", None).out
    host.dacha("apply --no-wait")
    assert "NRestarts=0" in host.sh("systemctl show dacha-tides -p NRestarts").out
    assert "everything applied" in host.dacha("diff").out
    # The journal has what the log has, with fields.
    entries = [json.loads(x) for x in host.sh("journalctl DACHA_LAB=tides DACHA_KIND=started -o json").out.splitlines()]
    assert {e["DACHA_GUEST"] for e in entries} == {"gauge", "heron", "tern"}
    assert {e["SYSLOG_IDENTIFIER"] for e in entries} == {"dacha"}


def test_control_groups_of_this_kernel_limit_a_guest_and_the_log_says_so(host: WholeHost) -> None:
    groups = host.sh("cd /sys/fs/cgroup/dacha/tides && head -n 1 */memory.max */pids.max").out
    assert groups.count("==>") == 6 and "max\n" not in groups
    # One that grows beyond its limit is killed as a whole.
    host.sh("echo 20M > /sys/fs/cgroup/dacha/tides/tern/memory.max")
    ended = until(lambda: [e for e in host.log("ended") if e["data"]["reason"] == "memory"], 900)
    assert [e["guest"] for e in ended] == ["tern"] and "reached its memory limit" in ended[-1]["text"]
    assert "tern ended" in host.dacha("status", None).out
    host.dacha("apply --no-wait")


def test_after_a_reboot_guests_start_in_their_order_and_before_it_they_stop_in_the_reverse_one(host: WholeHost) -> None:
    all_on(host)
    # gauge has booted, so that it hears its power button.
    until(lambda: host.dacha("status --json", None).json["guests"][0]["doors"][0]["answers"], 900)
    before, boot = state(host), host.sh("cat /proc/sys/kernel/random/boot_id").out
    lines = len(host.log())
    host.sh("(sleep 1; systemctl reboot) > /dev/null 2>&1 &")
    until(lambda: host.sh_quietly("cat /proc/sys/kernel/random/boot_id") not in (None, boot), 900)
    host.await_up()
    until(lambda: sum(e["kind"] == "started" for e in host.log()[lines:]) >= 3, 900)
    events = host.log()[lines:]
    ends = [e["guest"] for e in events if e["kind"] == "ended"]
    assert ends == ["tern", "heron", "gauge"], events
    reasons = {e["guest"]: e["data"]["reason"] for e in events if e["kind"] == "ended"}
    assert reasons == {"tern": "powered-off", "heron": "powered-off", "gauge": "asked"}
    assert [e["guest"] for e in events if e["kind"] == "started"] == ["gauge", "heron", "tern"]
    # heron waited for the door of gauge; tern waited for heron, which never responds, until its deadline.
    order = [(e["kind"], e["guest"]) for e in events if e["kind"] in ("started", "not-ready")]
    assert order == [("started", "gauge"), ("started", "heron"), ("not-ready", "heron"), ("started", "tern")]
    assert host.dacha("status --json", None).json["guests"][0]["doors"][0]["answers"] is True
    assert state(host) == before
    assert host.sh(f"cd /home/kim && {AS_KIM} {DACHA} status --json", None).json["guests"][0]["state"] == "on"


def back(host: WholeHost) -> tuple[dict[str, Any], int]:
    """Switch the host on until all guests are; what is there then, and how often the emulated host hung: its plug is
    pulled again then."""
    for again in range(HANGS + 1):
        try:
            host.start()
            all_on(host)
            for door in range(1, 9):
                host.dacha(f"door remove tern t{door}", None)
            host.dacha("apply --no-wait")
            assert "everything applied" in host.dacha("diff").out
            return state(host), again
        except Hung as hung:
            if again == HANGS:
                raise
            print(f"the emulated host hangs: {hung}", flush=True)
            host.cut()
    raise AssertionError


def test_after_every_power_cut_all_guests_are_back_with_what_they_had(host: WholeHost) -> None:
    drawn = random.Random(int(os.environ.get("DACHA_SEED", "7")))
    host.dacha("guest edit gauge --ready-within 1s")
    host.dacha("apply --no-wait")
    before = state(host)
    for cut in range(CUTS):
        all_on(host)
        host.sh(
            f"cd /root && (for n in 1 2 3 4 5 6 7 8; do {DACHA} door add tern t$n --to 70$n --from host; "
            f"{DACHA} apply --no-wait; {DACHA} door remove tern t$n; {DACHA} restart tern --force --wait 1s --no-wait; "
            "done) > /dev/null 2>&1 &"
        )
        time.sleep(drawn.uniform(0.0, 25.0))
        host.cut()
        after, again = back(host)
        assert after == before, (cut, after, before)
        left = host.sh("find /var/lib/dacha -name '.*.part' -o -name '*.making'").out
        assert left == "", (cut, left)
        reasons = [e["data"]["reason"] for e in host.log("ended")][-3:]
        print(f"cut {cut}: all back; the last ends: {reasons}; the emulated host hung {again} times", flush=True)
        assert "host" in reasons


def test_guests_on_a_vlan_send_tagged_frames_also_after_a_reboot(host: WholeHost) -> None:
    """A server with several segments and stores: a thick disk and a medium in a store, a segment with a tag, and a
    guest on it that starts with the host."""
    text = host.sh("cat /root/lab.toml").out
    vlan = (
        '[storage.bay]\npath = "/srv/bay"\n'
        '[network.quay]\nkind = "bridge"\ninterface = "eth0"\nvlan = 20\n[guest.dunlin]\nmemory = "64 MiB"\ncpus = 4\n'
        'boot-order = ["network"]\nadapter = [{ network = "quay" }]\nstart = { at-boot = true, order = 9 }\n'
        'disk = [{ size = "16 MiB", storage = "bay", allocation = "full" }]\nmedium = ["tides"]\n'
    )
    listen = (
        "(timeout 600 tcpdump -nei eth0 -c 1 vlan 20 and udp port 67 > /run/tagged 2> /dev/null) > /dev/null 2>&1 &"
    )

    def tagged() -> None:
        said = until(lambda: host.sh("cat /run/tagged").out, 900)
        assert "vlan 20" in said and ("DHCP" in said or "BOOTP" in said), said

    host.sh("mkdir -p /srv/bay; head -c 1M /dev/zero > /root/tides.iso; printf CD001 | dd of=/root/tides.iso bs=1 "
            "seek=32769 conv=notrunc 2> /dev/null")  # fmt: skip
    host.write("/root/lab.toml", text + vlan)
    try:
        host.dacha("media add /root/tides.iso --name tides")
        host.sh(listen)
        host.dacha("apply --no-wait")
        link = host.sh("ip -d -j link show type vlan").json
        assert [x["linkinfo"]["info_data"]["id"] for x in link] == [20]
        tagged()
        # All its space is taken from the beginning: blocks of 512 bytes.
        assert int(host.sh("find /srv/bay -name 'dunlin.*.qcow2' -exec stat -c %b {} +").out) * 512 >= 16 << 20
        boot = host.sh("cat /proc/sys/kernel/random/boot_id").out
        host.sh("(sleep 1; systemctl reboot) > /dev/null 2>&1 &")
        until(lambda: host.sh_quietly("cat /proc/sys/kernel/random/boot_id") not in (None, boot), 900)
        host.await_up()
        host.sh(listen)
        until(lambda: host.guests()["dunlin"] == "on", 900)
        # It gives up looking for a server at its first start.
        host.dacha("restart dunlin --force --no-wait")
        tagged()
    finally:
        # It has no system that would hear its power button.
        host.dacha("stop dunlin --force --wait 0s", None)
        host.write("/root/lab.toml", text)
        host.dacha("apply --no-wait")
        host.dacha("media remove tides", None)
    assert host.sh("ip -j link show type vlan").out.strip() in ("", "[]", "[{}]")


def test_removal_leaves_nothing(host: WholeHost) -> None:
    host.sh(f"cd /home/kim && {AS_KIM} {DACHA} caretaker install --remove")
    host.sh(f"cd /home/kim && {AS_KIM} {DACHA} stop --all --force --wait 0s")
    host.sh(f"cd /home/kim && {AS_KIM} {DACHA} lab remove kims --with-disks --yes")
    host.dacha("caretaker install --remove")
    host.dacha("stop --all --force --wait 0s")
    host.dacha("lab remove tides --with-disks --yes")
    assert host.sh("nft list ruleset").out == ""
    links = {x["ifname"] for x in host.sh("ip -j link").json}
    assert links == {"lo", "eth0"}
    assert host.sh("pgrep -a -f 'dacha|qemu-system'", None).out.replace("/opt/dacha", "").count("dacha") <= 1
    assert host.sh("ls /etc/systemd/system/dacha* /home/kim/.config/systemd/user/dacha*", None).out == ""
    assert host.sh("ls -d /sys/fs/cgroup/dacha", None).out == ""
    assert host.sh("ls -A /var/lib/dacha/labs /run/dacha").out.replace("/var/lib/dacha/labs:\n", "").split() == [
        "/run/dacha:"
    ]
    assert host.sh("cat /proc/sys/net/ipv4/ip_forward").out == "0\n"
