"""Another program removes the firewall rules, as firewall front ends do when they reload: guests get no further than
before, everything says so, and the caretaker has the rules back.

`DACHA_STORM_S` says how long rules are removed every two seconds; bench/hostile.py takes two minutes.
"""

from __future__ import annotations

import os
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from dacha.core.lab.names import link_name
from tests.attacks.field import MOST_MIB, Field, memory_of
from tests.attacks.frames import ethernet, records, udp
from tests.attacks.report import Report
from tests.networks.world import PYTHON, hold, until

STORM_S = float(os.environ.get("DACHA_STORM_S", "6"))
FLUSHES = (
    "nft flush ruleset",
    "nft delete table inet dacha_siege",
    "nft delete table bridge dacha_siege",
    "nft flush table inet dacha_siege",
    "nft flush table bridge dacha_siege",
)
# What front ends do at a reload: a file that begins so, the older commands, and removing every table but one's own.
RELOADS = (
    "printf 'flush ruleset\\ntable inet filter { chain input { type filter hook input priority 0; }; }\\n' | nft -f -",
    "iptables -F; iptables -X; iptables -t nat -F; iptables -P FORWARD ACCEPT",
    "for t in inet ip ip6 bridge; do nft flush ruleset $t; done",
)
# Counts connections and datagrams at some addresses until its input ends.
_COUNTS = """
import selectors, socket, sys
every, count = selectors.DefaultSelector(), {}
for place in sys.argv[1:]:
    for kind in (socket.SOCK_STREAM, socket.SOCK_DGRAM):
        s = socket.socket(socket.AF_INET, kind); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        s.bind((place, 9102)); s.setblocking(False)
        if kind == socket.SOCK_STREAM: s.listen(99)
        every.register(s, selectors.EVENT_READ, place)
every.register(sys.stdin, selectors.EVENT_READ, None)
print("up", flush=True)
while True:
    for key, _ in every.select():
        if key.data is None: raise SystemExit(print(count))
        if key.fileobj.type == socket.SOCK_STREAM: who = key.fileobj.accept()[1][0]
        else: who = key.fileobj.recvfrom(9)[1][0]
        if who.startswith("10.77."): count[key.data] = count.get(key.data, 0) + 1
"""


@pytest.fixture
def held(field: Field) -> Iterator[int]:
    """The caretaker, stopped: what it would restore stays away."""
    caretaker = hold(field.lab)
    yield caretaker
    os.kill(caretaker, signal.SIGCONT)
    field.lab("apply")
    until(lambda: door(field))


def door(field: Field, patience_s: float = 1.0) -> bool:
    return field.world.reads("host", "127.0.0.1", 2221, patience_s).startswith("SSH")


def tries(field: Field) -> dict[str, bool]:
    """Whether root in a guest gets at what it is not meant to reach, or at its neighbour, by what that is."""
    places = {
        "a service of this host, by its gateway": ("10.77.9.1", 9102),
        "a service of this host, by its LAN address": ("192.0.2.10", 9102),
        "this host's 127.0.0.1": ("127.0.0.1", 9102),
        "another guest": ("10.77.4.20", 22),
    }
    # All at once, each with two seconds. For this one attempt the guest's own loopback leads to this host.
    routes = (
        "echo 1 > /proc/sys/net/ipv4/conf/all/route_localnet; "
        "ip address del 127.0.0.1/8 dev lo; ip route add 127.0.0.0/8 via 10.77.9.1"
    )
    back = "ip route del 127.0.0.0/8; ip address add 127.0.0.1/8 dev lo"
    asked = [f"(nc -w 2 {a} {p} < /dev/null > /tmp/got{n} 2>/dev/null) &" for n, (a, p) in enumerate(places.values())]
    found = "grep -alE 'secret|SSH' /tmp/got* | tr '\\n' ' '"
    said = field.on_console("squall", f"{routes}; {' '.join(asked)} wait; {found}; {back}")
    return {what: f"/tmp/got{n}" in said for n, what in enumerate(places)}


def test_without_rules_nothing_passes_and_everything_says_so(field: Field, held: int) -> None:
    report, world, lab = Report(), field.world, field.lab
    services = [world.serve("host", a, 9102, "secret") for a in ("127.0.0.1", "192.0.2.10", "10.77.9.1")]
    try:
        before = tries(field)
        report.open("with its rules: another guest", before.pop("another guest"))
        for what, seen in before.items():
            report.shut(f"with its rules: {what}", seen)
        # All of them where there is time, else one of each kind.
        for how in FLUSHES if STORM_S > 10 else (FLUSHES[0], FLUSHES[2], FLUSHES[3]):
            world.run("host", "sh", "-c", how)
            for what, seen in tries(field).items():
                report.shut(f"{how}: {what}", seen)
            report.shut(
                f"{how}: this host enters a guest", world.reads("host", "10.77.4.20", 22, 1.5).startswith("SSH")
            )
            if "flush table" not in how:
                status = lab("status", code=1)
                report.open(f"{how}: status says so", "firewall rules are missing" in status.out)
                report.open(f"{how}: check says so", "firewall rules are missing" in lab("check", code=1).out)
                trace = lab("trace", "gauge", "ssh", "--json", code=1).json
                report.open(f"{how}: trace names them", trace["broken"] == "rules")
            lab("apply")
            report.open(f"{how}: after dacha apply the door answers", until(lambda: door(field)))
        # The same attempts succeed where the filters are gone too: it is these that stop them.
        links = [*field.taps.values(), field.bridge, link_name("siege", "network", "vault")]
        links.append(link_name("siege", "guest", "squall", "1"))
        world.run(
            "host", "sh", "-c", "; ".join(["nft flush ruleset", *(f"tc qdisc del dev {n} clsact" for n in links)])
        )
        for what, seen in tries(field).items():
            report.open(f"without rules and filters: {what}", seen)
        report.open("status says so", "squall, gauge: not confined" in lab("status", code=1).out)
        lab("apply")
        for what, seen in tries(field).items():
            if what != "another guest":
                report.shut(f"after dacha apply: {what}", seen)
    finally:
        for service in services:
            service.kill()
            service.wait()
    report.judge()


def test_a_reload_of_another_firewall_costs_a_moment(field: Field) -> None:
    report, world = Report(), field.world
    until(lambda: door(field))
    log = Path(field.lab.guest_folder("gauge")).parent.parent / "caretaker.log"
    for how in RELOADS:
        world.run("host", "sh", "-c", how)
        report.open(f"{how.partition(';')[0][:40]}: the door answers again", until(lambda: door(field), 30))
    report.open("status is content again", until(lambda: field.lab("status", code=None).code == 0, 60))
    report.open("the log says who removed them", "changed by nft (process" in log.read_text())
    report.judge()


def test_rules_that_are_removed_again_and_again_let_nothing_through(field: Field) -> None:
    report, world = Report(), field.world
    until(lambda: door(field))
    counting = subprocess.Popen(
        world.inside("host", *PYTHON, "-c", _COUNTS, "127.0.0.1", "192.0.2.10", "10.77.4.1", "10.77.9.1"),
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert counting.stdin and counting.stdout and counting.stdout.readline() == "up\n"
    own, gaps, memory = field.hardware["squall"], [], [memory_of()]
    flood = [
        ethernet(field.gateway, own, 0x0800, udp("10.77.4.66", to, 9102, f"{n}".encode()))
        for n in range(60)
        for to in ("192.0.2.10", "127.0.0.1", "10.77.4.1")
    ]
    field.put("squall", "frames", records(flood))
    nc = "for a in 192.0.2.10 10.77.4.1 10.77.9.1; do nc -w 1 $a 9102 < /dev/null; done"
    attacks = {"squall": ("/home/ops/send < /home/ops/frames", nc), "gauge": (nc,)}
    for guest, commands in attacks.items():
        loops = " ".join(f"(while [ -e /tmp/storm ]; do {c}; done) > /dev/null 2>&1 &" for c in commands)
        field.on_console(guest, f"touch /tmp/storm; {loops} true")
    try:
        until_s = time.monotonic() + STORM_S
        while time.monotonic() < until_s:
            world.run("host", "nft", "flush", "ruleset")
            began = time.monotonic()
            until(lambda: door(field, 0.5), 30)
            gaps.append(time.monotonic() - began)
            memory.append(memory_of())
            time.sleep(max(0.0, 2.0 - gaps[-1]))
    finally:
        for guest in attacks:
            field.on_console(guest, "rm -f /tmp/storm")
        counting.stdin.close()
        seen = counting.stdout.read().strip()
    print(f"{len(gaps)} times removed; the door answered after {max(gaps):.2f} s at the longest, "
          f"{sorted(gaps)[len(gaps) // 2]:.2f} s in the middle")  # fmt: skip
    first, most = max(memory[0].values()), max(max(m.values()) for m in memory)
    print(f"memory of a process: {first} MiB before, {most} MiB at the most")
    report.shut(f"memory of a process over {MOST_MIB} MiB", most if most >= MOST_MIB else 0)
    report.shut("guests, while rules are removed every two seconds: this host", "" if seen == "{}" else seen)
    report.judge()
