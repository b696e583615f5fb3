"""Ten thousand doors: loading them against `nft -f` with the same rules by hand, and setting up a connection
through the last of them against a single rule written by hand, alone in the kernel.

Limits: 1.3 x the time of nft; 1.05 x the time of a connection.
"""

from __future__ import annotations

import subprocess
import sys
import time
from statistics import median

from dacha.core.lab.names import link_name
from dacha.core.lab.table.read import read_lab
from dacha.core.network.links import Ports, kernel_plan
from dacha.core.network.rules import ruleset
from dacha.core.plan.plan import make_plan
from labs import install_bytecode, verdict
from worlds import Pair, pair

GUESTS, DOORS = 100, 100
ROUNDS, CONNECTIONS, BLOCKS = 7, 300, 12
LOAD_LIMIT, CONNECT_LIMIT = 1.30, 1.05
# The load step of an apply, timed inside the process: the text is made, and nft takes it.
STEP = """
import sys, time
from dacha.core.apply.changes import LoadRules
from dacha.engine.network import kernel
from dacha.engine.workspace import load
ws = load("lab.toml"); ws.plan
for _ in range(int(sys.argv[1])):
    began = time.perf_counter()
    kernel.carry_out(ws, ws.plan, LoadRules(0, True))
    print(time.perf_counter() - began)
"""
# Everything of the kernel's part but the caretaker and the guests: none has to run for a door to lead to an address.
PREPARE = """
from dacha.core.apply.changes import Caretaker
from dacha.engine.network import kernel
from dacha.engine.workspace import load
from dacha.host import folders
ws = load("lab.toml")
for folder in (folders.run(), ws.home.folder):
    folders.make_private(folder)
for change in kernel.difference(ws, ws.plan):
    if not isinstance(change, Caretaker):
        kernel.carry_out(ws, ws.plan, change)
"""
# What keeps a host closed without the rules: the filter of the lab's bridge, and the policy rules; taken off, put back.
UNFILTERED = """
import subprocess
from dacha.core.lab.names import link_name
from dacha.host.network import transit
transit.open_again()
subprocess.run(["tc", "qdisc", "delete", "dev", link_name("bench", "network", "pier"), "clsact"], check=False)
"""
FILTER = """
from dacha.core.network.marks import drop_filter
from dacha.engine.network.links import wanted_links
from dacha.engine.workspace import load
from dacha.host.network import traffic_control, transit
transit.close((4, 6))
ws = load("lab.toml")
bridge = wanted_links(ws, ws.plan).bridges()[0]
traffic_control.attach({bridge.name: drop_filter(bridge)})
"""
# The far end of a door, and a client that times so many connections in one go.
SERVE = """
import socket
s = socket.create_server(("10.80.1.100", 1099), backlog=512)
print("up", flush=True)
while True:
    s.accept()[0].close()
"""
CONNECT = """
import socket, sys, time
port, count = int(sys.argv[1]), int(sys.argv[2])
began = time.perf_counter()
for _ in range(count):
    socket.create_connection(("192.0.2.1", port)).close()
print((time.perf_counter() - began) / count)
"""


def lab_text() -> str:
    lines = ['[lab]\nname = "bench"\n[network.pier]\nkind = "nat"\nbackend = "kernel"\nsubnet = "10.80.0.0/16"']
    for g in range(GUESTS):
        lines.append(
            f'[guest.g{g}]\nmemory = "16 MiB"\nadapter = [{{ network = "pier", address = "10.80.1.{g + 1}" }}]'
        )
        lines += [
            f'door.d{d} = {{ from = "lan", port = {10_000 + g * DOORS + d}, to = {1_000 + d} }}' for d in range(DOORS)
        ]
    return "\n".join(lines) + "\n"


def rules_text(plugged: tuple[str, ...] = ()) -> str:
    """The very text that Dacha loads, for nft by hand; `plugged` are ports that no guest has."""
    lab = read_lab(lab_text()).lab
    assert lab is not None
    plan = make_plan(lab)
    links = kernel_plan(lab, plan)
    return ruleset(lab, plan, links, (4, 6), Ports(frozenset(t.name for t in links.taps()), plugged))


def loading(p: Pair) -> float:
    """Median over rounds of: the load step against nft with the very same text, turn about."""
    text = p.folder / "rules.nft"
    ratios = []
    for _ in range(ROUNDS):
        step = float(p.run(p.host, sys.executable, "-c", STEP, "1"))
        began = time.perf_counter()
        subprocess.run(p.inside(p.host, "nft", "-f", text), check=True)
        ratios.append(step / (time.perf_counter() - began))
    return median(ratios)


def connecting(p: Pair) -> float:
    """Median over blocks of: connections through the last door against those through one rule by hand."""
    last = 10_000 + GUESTS * DOORS - 1
    away = "table inet dacha_bench\ndelete table inet dacha_bench\n"
    rule = f"tcp dport {last} dnat to 10.80.1.100:1099"
    table = "table ip hand {\nchain pre {\ntype nat hook prerouting priority -100\n" + rule + "\n}\n}\n"
    alone = away + "table ip hand\ndelete table ip hand\n" + table
    doors = "table ip hand\ndelete table ip hand\n" + rules_text(("g0",))

    def timed(rules: str) -> float:
        # The filter of the bridge is a part of the doors' price.
        p.run(p.host, sys.executable, "-c", FILTER if rules is doors else UNFILTERED)
        subprocess.run(p.inside(p.host, "nft", "-f", "-"), input=rules, text=True, check=True)
        p.run(p.far, sys.executable, "-c", CONNECT, str(last), str(CONNECTIONS // 4))
        return float(p.run(p.far, sys.executable, "-c", CONNECT, str(last), str(CONNECTIONS)))

    ratios = []
    for _ in range(BLOCKS):
        # One after the other and back again, so that what drifts meets the two alike.
        times = [timed(doors), timed(alone), timed(alone), timed(doors)]
        ratios.append((times[0] + times[3]) / (times[1] + times[2]))
    return median(ratios)


def main() -> int:
    install_bytecode()
    with pair() as p:
        (p.folder / "lab.toml").write_text(lab_text())
        p.ip("-n", p.host, "address", "add", "192.0.2.1/24", "dev", "w0")
        p.ip("-n", p.far, "address", "add", "192.0.2.2/24", "dev", "w1")
        p.run(p.host, sys.executable, "-c", PREPARE)
        (p.folder / "rules.nft").write_text(rules_text())
        ratio = loading(p)
        p.run(p.host, sys.executable, "-c", STEP, "1")
        guest = p.attach("10.80.1.100/16", "10.80.0.1", link_name("bench", "network", "pier"))
        server = subprocess.Popen(p.inside(guest, sys.executable, "-c", SERVE), stdout=subprocess.PIPE)
        try:
            assert server.stdout
            server.stdout.readline()
            connect = connecting(p)
        finally:
            server.kill()
            server.wait()
    held = ratio <= LOAD_LIMIT and connect <= CONNECT_LIMIT
    figure = (
        f"{GUESTS * DOORS} doors: loaded in {ratio:.2f} x the time of nft, entered in {connect:.2f} x a single rule's"
    )
    return verdict(figure, f"limits {LOAD_LIMIT} x, {CONNECT_LIMIT} x", held)


if __name__ == "__main__":
    sys.exit(main())
