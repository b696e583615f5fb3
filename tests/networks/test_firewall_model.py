"""What is said of other programs' rules, against the kernel: random rules are loaded, each way of a connection through
this host is tried, and it works exactly if none of them was found to drop it."""

from __future__ import annotations

import json
import os
import random
import subprocess
from collections.abc import Callable, Iterator
from functools import partial

import pytest

from dacha.core.network.firewall.passage import (
    Flow,
    Links,
    Step,
    first_stop,
    from_guest,
    from_this_host,
    over_bridge,
    through,
    to_this_host,
    within_this_host,
)
from dacha.core.network.firewall.walk import Rules
from tests.networks.world import PYTHON, World, until

TRIALS = int(os.environ.get("DACHA_TRIALS", "25"))
SEED = int(os.environ.get("DACHA_SEED", "2026"))
LAN, HOST, HOME, GUEST = "192.0.2.20", "192.0.2.10", "10.77.4.1", "10.77.4.20"
DOOR = f"""\
table inet dacha_model {{
  chain doors {{ type nat hook prerouting priority -100; ip daddr {HOST} tcp dport 2220 dnat ip to {GUEST}:22; }}
  chain out {{ type nat hook postrouting priority 100; oifname eth0 ip saddr 10.77.4.0/24 masquerade; }}
}}
"""
LINKS = Links("eth0", "pier0", "m0")
# A machine on the bridge itself.
NEAR = Flow(4, "tcp", "10.77.4.30", None, 0, GUEST, 22)
# Each way: who connects, whereto, and the hooks that the connection passes.
WAYS: dict[str, tuple[str, str, int, Callable[[], Iterator[Step]]]] = {
    "door": ("lan", HOST, 2220, lambda: through(Flow(4, "tcp", LAN, HOST, 2220, GUEST, 22), LINKS)),
    "program": ("lan", HOST, 2222, lambda: to_this_host(Flow(4, "tcp", LAN, HOST, 2222), LINKS)),
    "guest": ("host", GUEST, 22, lambda: from_this_host(Flow(4, "tcp", HOME, None, 0, GUEST, 22), LINKS)),
    "out": ("other", LAN, 2222, lambda: from_guest(Flow(4, "tcp", LAN, None, 2222, GUEST), LINKS)),
    "bridged": ("router", GUEST, 22, lambda: over_bridge(NEAR, LINKS._replace(outer="m1"), by_ip=False)),
    "self": ("host", HOST, 2222, lambda: within_this_host(Flow(4, "tcp", HOST, HOST, 2222))),
}
CLIENT = """\
import socket, sys
try:
    with socket.create_connection((sys.argv[1], int(sys.argv[2])), float(sys.argv[3])) as s:
        print(s.recv(9).decode() or "closed")
except OSError as e:
    print("no", e)
"""
PLACES = {
    "ip": (("prerouting", -300, -150, -90, 5), ("input", -150, 0), ("forward", -150, 0), ("output", -300, -150, 0),
           ("postrouting", -150, 0, 300)),
    "inet": (("prerouting", -300, 0), ("input", 0), ("forward", 0), ("output", 0), ("postrouting", 0)),
    "bridge": (("prerouting", -200), ("input", 0), ("forward", 0), ("output", 0), ("postrouting", 0)),
    "netdev": (("ingress", 0),),
}  # fmt: skip


def a_match(drawn: random.Random, family: str) -> str:
    """One match, as nft writes it."""
    address = drawn.choice([LAN, HOST, HOME, GUEST, "10.77.4.0/24", "192.0.2.9", f"{{ {GUEST}, {LAN} }}", "@known"])
    port = drawn.choice(["22", "2220", "2222", "20-30", "{ 22, 2220-2222 }", "9", "@ports"])
    link = drawn.choice(["eth0", "pier0", "m0", "lo", '"m*"', "{ eth0, lo }"])
    op = drawn.choice(["", "", "", "!= "])
    found = [f"ip {drawn.choice(['saddr', 'daddr'])} {op}{address}",
             f"tcp {drawn.choice(['sport', 'dport'])} {op}{port}",
             "meta l4proto tcp", "ip protocol udp",
             f"ip daddr . tcp dport {{ {GUEST} . 22, {HOST} . 2222 }}"]  # fmt: skip
    if family != "netdev":
        found += [f"{drawn.choice(['iifname', 'oifname'])} {op}{link}"]
    if family in ("ip", "inet"):
        found += [f"ct state {drawn.choice(['new', 'established', 'invalid', 'established,related'])}",
                  f"ct status {drawn.choice(['', '!= '])}dnat", "fib daddr type local", 'iif "lo"']  # fmt: skip
    return drawn.choice(found)


def a_rule(drawn: random.Random, family: str, hook: str) -> str:
    if drawn.random() < 0.15:
        inside = ", ".join(f"{port} : {drawn.choice(['drop', 'accept', 'jump more'])}" for port in (22, 2220, 2222))
        return f"tcp {drawn.choice(['dport', 'sport'])} vmap {{ {inside} }}"
    refuses = ["reject"] if family in ("ip", "inet") and hook in ("input", "forward", "output") else []
    verdict = drawn.choice(["drop", "drop", "accept", "counter", "jump more", "return", *refuses])
    return " ".join([*(a_match(drawn, family) for _ in range(drawn.randint(1, 3))), verdict])


def some_rules(drawn: random.Random) -> str:
    """One table of another program, with one or two base chains."""
    family = drawn.choice(list(PLACES))
    lines = [f"table {family} fw {{", f"set known {{ type ipv4_addr; elements = {{ {GUEST}, 192.0.2.9 }}; }}",
             "set ports { type inet_service; flags interval; elements = { 22, 2222-2230 }; }",
             "chain more {", f"{a_match(drawn, family)} {drawn.choice(['drop', 'accept', 'return'])}", "}"]  # fmt: skip
    for number in range(drawn.randint(1, 2)):
        hook, *priorities = drawn.choice(PLACES[family])
        device = f"device {drawn.choice(['eth0', 'pier0', 'm0'])} " if family == "netdev" else ""
        policy = "drop" if drawn.random() < 0.25 else "accept"
        lines.append(f"chain c{number} {{ type filter hook {hook} {device}priority {drawn.choice(priorities)}; ")
        lines += [f"policy {policy};", *(a_rule(drawn, family, str(hook)) for _ in range(drawn.randint(1, 4))), "}"]
    return "\n".join([*lines, "}"])


@pytest.fixture(scope="module")
def host() -> Iterator[World]:
    """A host with a bridge, and a machine on it in place of a guest; addresses are known to both, so that only what the
    rules say of TCP counts."""
    world = World()
    served = []
    try:
        for command in ("link add pier0 type bridge forward_delay 0", f"address add {HOME}/24 dev pier0",
                        "link set pier0 up"):  # fmt: skip
            world.run("host", "ip", *command.split())
        world.run("other", "ip", "link", "set", "eth0", "down")
        world.plug("other", "pier0")
        world.run(
            "host", "ip", "link", "add", "m1", "type", "veth", "peer", "name", "eth9", "netns", world.name("router")
        )
        world.run("host", "ip", "link", "set", "m1", "master", "pier0", "up")
        world.run("router", "ip", "address", "add", "10.77.4.30/24", "dev", "eth9")
        world.run("router", "ip", "link", "set", "eth9", "up")
        for command in (f"address add {GUEST}/24 dev eth9", f"route add default via {HOME}"):
            world.run("other", "ip", *command.split())
        world.run("host", "sysctl", "-qw", "net.ipv4.ip_forward=1")
        nft(world, DOOR)
        served = [
            world.serve(who, "0.0.0.0", port, "here") for who, port in (("other", 22), ("host", 2222), ("lan", 2222))
        ]
        until(lambda: all(answers(world).values()))
        known = (("host", "pier0"), ("other", "eth9"), ("router", "eth9"), ("host", "eth0"), ("lan", "eth0"))
        for machine, link in known:
            for row in json.loads(world.run(machine, "ip", "-json", "neighbour", "show", "dev", link)):
                if "lladdr" in row and ":" not in row["dst"]:
                    words = ("replace", row["dst"], "lladdr", row["lladdr"], "dev", link, "nud", "permanent")
                    world.run(machine, "ip", "neighbour", *words)
        yield world
    finally:
        for process in served:
            process.kill()
            process.wait()
        world.close()


def nft(world: World, text: str) -> subprocess.CompletedProcess[str]:
    command = world.inside("host", "nft", "-f", "-")
    return subprocess.run(command, input=text, capture_output=True, text=True, check=False)


def answers(world: World, within_s: float = 0.7) -> dict[str, bool]:
    """Which of the ways works."""
    asked = {
        name: subprocess.Popen(
            world.inside(who, *PYTHON, "-c", CLIENT, address, str(port), str(within_s)),
            stdout=subprocess.PIPE,
            text=True,
        )
        for name, (who, address, port, _) in WAYS.items()
    }
    return {name: process.communicate()[0].startswith("here") for name, process in asked.items()}


def test_a_connection_works_exactly_if_nothing_was_found_to_drop_it(
    host: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    drawn, refused, stops, unsure = random.Random(SEED), 0, 0, 0
    for trial in range(TRIALS):
        text = some_rules(drawn)
        if nft(host, text).returncode:
            refused += 1  # the kernel does not take every combination
            continue
        try:
            by_ip = drawn.random() < 0.5
            host.run("host", "sysctl", "-qw", f"net.bridge.bridge-nf-call-iptables={int(by_ip)}")
            ways = {name: steps for name, (*_, steps) in WAYS.items()}
            ways["bridged"] = partial(over_bridge, NEAR, LINKS._replace(outer="m1"), by_ip=by_ip)
            rules = Rules(listing(host))
            found = {name: first_stop(rules, steps(), "dacha_") for name, steps in ways.items()}
            # What a rule does to a port of the client's choice is uncertain.
            may = {name: first_stop(rules, steps(), "dacha_", worst=True) for name, steps in ways.items()}
            heard = answers(host)
            # On a busy machine a connection may take longer.
            for within_s in (3.0, 9.0):
                if any(found[name] is may[name] is None and not heard[name] for name in WAYS):
                    heard = {name: heard[name] or again for name, again in answers(host, within_s).items()}
            for name in WAYS:
                right = not heard[name] if found[name] else heard[name] or may[name] is not None
                assert right, (
                    f"{trial}: {name} (bridged by IP: {by_ip}), found {found[name]}, works {heard[name]}\n{text}"
                )
            stops += sum(stop is not None for stop in found.values())
            unsure += sum(found[name] is None and may[name] is not None for name in WAYS)
        finally:
            kind, name = text.split()[1:3]
            host.run("host", "nft", "delete", "table", kind, name)
    print(f"{TRIALS} tables, {refused} not taken by the kernel; {stops} connections found dropped, {unsure} uncertain")
    assert refused < TRIALS / 2 and stops > unsure


def listing(world: World) -> dict[str, object]:
    """The rules as a trace gets them."""
    code = "import json; from dacha.host.network.nft import listing; print(json.dumps(listing('dacha_')))"
    return dict(json.loads(world.run("host", *PYTHON, "-c", code)))
