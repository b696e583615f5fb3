"""Labs drawn at random, and what their doors must do, told without the program: who gets in where, by which address."""

from __future__ import annotations

import json
import random
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass, field
from ipaddress import ip_address, ip_network
from typing import Any

from tests.networks.world import PYTHON, World

# This host's addresses on the LAN, and two machines there; the second one's are in fewer of the subnets below.
HOST = ("192.0.2.10", "192.0.2.11", "2001:db8:1::a")
CLIENTS = {"lan": ("192.0.2.20", "2001:db8:1::14"), "other": ("192.0.2.30", "2001:db8:1::1e")}
SUBNETS = (
    "192.0.2.20", "192.0.2.20/31", "192.0.2.16/28", "192.0.2.0/24", "192.0.2.30", "198.51.100.0/24",
    "2001:db8:1::14", "2001:db8:1::/64", "2001:db8:1::10/124", "0.0.0.0/0",
)  # fmt: skip
SERVICE = """
import socket, sys, threading
def serve(family, where, port):
    s = socket.socket(family); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    if family == socket.AF_INET6: s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
    s.bind((where, port)); s.listen(50)
    while True:
        c, _ = s.accept(); c.sendall(sys.argv[1].encode()); c.close()
for family, where in ((socket.AF_INET, "0.0.0.0"), (socket.AF_INET6, "::")):
    for port in (22, 80): threading.Thread(target=serve, args=(family, where, port)).start()
print("up", flush=True)
"""
# Connects to many places at once: who says what there, "" where nobody does within its time.
ASK = """
import concurrent.futures, json, socket, sys
def ask(place):
    for _ in range(2 if place[2] > 2 else 1):
        try:
            with socket.create_connection((place[0], place[1]), place[2]) as s:
                s.settimeout(place[2]); return s.recv(64).decode()
        except OSError: pass
    return ""
places = json.loads(sys.stdin.read())
with concurrent.futures.ThreadPoolExecutor(64) as several: print(json.dumps(list(several.map(ask, places))))
"""


@dataclass
class Door:
    """A door of a guest: its name, port, where it listens ("" for anywhere), whom it admits (none: everybody)."""

    guest: str
    origin: str
    port: int
    listen: str
    allow: list[str]

    def leads(self, client: str, at: str) -> bool:
        """Whether a machine of the LAN with this address gets in at this address of this host."""
        version = ip_address(client).version
        listens = self.listen in ("", "::") or ip_address(self.listen) == ip_address(at)
        nets = [ip_network(n, strict=False) for n in self.allow]
        admitted = not nets or any(n.version == version and ip_address(client) in n for n in nets)
        return self.origin == "lan" and listens and admitted


@dataclass
class Drawn:
    """A lab: its text, each guest's adapters (network, address, IPv6 address or ""), and its doors."""

    text: str
    guests: dict[str, list[tuple[str, str, str]]]
    doors: list[Door]
    networks: dict[str, str] = field(default_factory=dict)


def draw(seed: int) -> Drawn:
    dice = random.Random(seed)
    lines, networks = ['[lab]\nname = "real"'], {}
    for n in range(dice.randrange(1, 4)):
        name, kind = f"n{n}", dice.choice(("nat", "nat", "nat", "host-only"))
        networks[name] = kind
        lines += [
            f"[network.{name}]",
            f'kind = "{kind}"',
            'backend = "kernel"',
            f'subnet = "10.{60 + n}.{seed % 200}.0/24"',
        ]
        lines += [f'subnet6 = "fd77:{n}:{seed % 200}::/64"'] if dice.random() < 0.7 else []
        if kind == "nat":
            lines += dice.choice(([], ["isolated = true"], ['way-out = "internet"']))
    drawn = Drawn("", {}, [], networks)
    ports = iter(range(3000, 4000))
    shared = dice.randrange(5000, 6000)  # one port at two addresses of this host: two doors
    free = [HOST[0], HOST[1]]
    for n in range(dice.randrange(2, 5)):
        guest = f"g{seed}-{n}"
        places = dice.sample(list(networks), min(dice.choice((1, 1, 2)), len(networks)))
        drawn.guests[guest] = []
        lines += [f"[guest.{guest}]", 'memory = "64 MiB"', "adapter = ["]
        for place in places:
            number = list(networks).index(place)
            six = f"fd77:{number}:{seed % 200}::{20 + n:x}" if f"fd77:{number}:" in "\n".join(lines) else ""
            four = f"10.{60 + number}.{seed % 200}.{20 + n}"
            drawn.guests[guest].append((place, four, six))
            lines.append(
                f'  {{ network = "{place}", address = "{four}"' + (f', address6 = "{six}"' if six else "") + " },"
            )
        lines.append("]")
        for d in range(dice.randrange(0, 4)):
            open_ones = [p for p, _, _ in drawn.guests[guest] if networks[p] == "nat"]
            origin = dice.choice(("lan", "lan", "host")) if open_ones else "host"
            six = next((s for p, _, s in drawn.guests[guest] if not open_ones or p == open_ones[0]), "")
            listen, port = "", next(ports)
            if origin == "lan":
                listen = dice.choice(("", "", HOST[0], HOST[1], *((HOST[2], "::") if six else ())))
                if free and dice.random() < 0.4:
                    listen, port = free.pop(), shared
            allow = dice.sample(SUBNETS, dice.randrange(1, 5)) if origin == "lan" and dice.random() < 0.6 else []
            drawn.doors.append(Door(guest, origin, port, listen, allow))
            keys = ['service = "http"', f'from = "{origin}"', f"port = {port}", "to = 80"]
            keys += [f'listen = "{listen}"'] if listen else []
            keys += [f"allow = {json.dumps(allow)}"] if allow else []
            if origin == "lan":
                keys.append(f'network = "{open_ones[0]}"')
            lines.append(f"door.d{d} = {{ {', '.join(keys)} }}")
    drawn.text = "\n".join(lines) + "\n"
    return drawn


def settle(drawn: Drawn, rows: list[dict[str, Any]]) -> None:
    """Give the guests the addresses that the plan chose where the file leaves them open (`address list --json`)."""
    for guest in drawn.guests:
        mine = sorted((r["adapter"], r) for r in rows if r["guest"] == guest)
        drawn.guests[guest] = [(r["network"], r["address"], r["address6"] or "") for _, r in mine]


class Machines:
    """The lab's guests as namespaces, each with a service on port 80 that says its name."""

    def __init__(self, world: World, drawn: Drawn, bridges: dict[str, str]) -> None:
        self.world, self.drawn, self._processes = world, drawn, list[subprocess.Popen[str]]()
        for number, (guest, adapters) in enumerate(drawn.guests.items()):
            subprocess.run(["ip", "netns", "add", world.name(guest)], check=True)
            world.run(guest, "ip", "link", "set", "lo", "up")
            for n, (network, four, six) in enumerate(adapters):
                here = f"m{number}-{n}"
                peer = ("peer", "name", f"eth{n}", "netns", world.name(guest))
                world.run("host", "ip", "link", "add", here, "type", "veth", *peer)
                world.run("host", "ip", "link", "set", here, "master", bridges[network], "group", "default", "up")
                lines = [f"address add {four}/24 dev eth{n}", f"link set eth{n} up"]
                lines += [f"address add {six}/64 dev eth{n} nodad"] if six else []
                if n == 0:
                    lines += [f"route add default via {four.rpartition('.')[0]}.1"]
                    lines += [f"-6 route replace default via {six.rpartition('::')[0]}::1"] if six else []
                for line in lines:
                    world.run(guest, "ip", *line.split())
            process = subprocess.Popen(
                world.inside(guest, *PYTHON, "-c", SERVICE, guest), stdout=subprocess.PIPE, text=True
            )
            self._processes.append(process)
            assert process.stdout and process.stdout.readline() == "up\n"

    def ask(self, machine: str, places: list[tuple[str, int, float]]) -> list[str]:
        """What is said at these places (address, port, patience in seconds) to who connects from a machine."""
        done = subprocess.run(
            self.world.inside(machine, *PYTHON, "-c", ASK), input=json.dumps(places), capture_output=True, text=True,
            check=True, timeout=300,
        )  # fmt: skip
        answers: list[str] = json.loads(done.stdout)
        return answers

    def close(self) -> None:
        for process in self._processes:
            process.kill()
            process.wait()
        for number, (guest, adapters) in enumerate(self.drawn.guests.items()):
            for n in range(len(adapters)):
                self.world.run("host", "ip", "link", "delete", f"m{number}-{n}", check=False)
            subprocess.run(["ip", "netns", "delete", self.world.name(guest)], check=False, capture_output=True)


def wrong_doors(drawn: Drawn, machines: Machines, here: Sequence[str] = HOST) -> tuple[list[str], int]:
    """Every port of every door, at each of this host's addresses (`here`), from each machine of the LAN: what is not as
    the lab file says, and how many were tried."""
    wrong, count = [], 0
    for client, addresses in CLIENTS.items():
        expected: list[tuple[tuple[str, int, float], str]] = []
        for port in sorted({d.port for d in drawn.doors}):
            for at in here:
                mine = next(a for a in addresses if (":" in a) == (":" in at))
                guests = {d.guest for d in drawn.doors if d.port == port and d.leads(mine, at)}
                guests = {g for g in guests if ":" not in at or _six(drawn, g)}
                expected.append(((at, port, 10.0 if guests else 0.7), next(iter(guests), "")))
        said = machines.ask(client, [place for place, _ in expected])
        count += len(said)
        wrong += [
            f"{client} at {p[0]}:{p[1]}: {s!r}, not {w!r}" for (p, w), s in zip(expected, said, strict=True) if s != w
        ]
    return wrong, count


def _six(drawn: Drawn, guest: str) -> str:
    """The IPv6 address by which a guest's doors from the LAN lead to it."""
    return next((six for place, _, six in drawn.guests[guest] if drawn.networks[place] == "nat"), "")


def wrong_cells(drawn: Drawn, machines: Machines, table: dict[str, Any]) -> tuple[list[str], int]:
    """Every cell of `reach`: each way it names leads there, and where it names none nothing does."""
    wrong, count = [], 0
    gateways = {n: f"10.{60 + i}.{a[1].split('.')[2]}.1" for i, n in enumerate(drawn.networks)
                for g in drawn.guests.values() for a in g[:1]}  # fmt: skip
    for row in table["services"]:
        guest = row["guest"]
        for place, cell in row["from"].items():
            asker = place if place in ("host", "lan") else _on(drawn, place, guest)
            if asker is None or place == "outside":
                continue
            # An address that this host cannot know is a word.
            ways = [w for w in cell["ways"] if "." in w["address"] or ":" in w["address"]]
            ways = [w for w in ways if not w["only"]]  # whom they admit is tried by itself
            said = machines.ask(asker, [(w["address"], w["port"], 10.0) for w in ways])
            wrong += [f"{guest} from {place} by {w}: {s!r}" for w, s in zip(ways, said, strict=True) if s != guest]
            count += len(ways)
            if not cell["reachable"]:
                tries = [(a, 80, 0.7) for _, four, six in drawn.guests[guest] for a in (four, six) if a]
                here = {"host": "127.0.0.1"}.get(place, gateways.get(place, HOST[0]))
                tries += [(here, d.port, 0.7) for d in drawn.doors if d.guest == guest]
                said = machines.ask(asker, tries)
                wrong += [f"{guest} from {place} at {t}: open" for t, s in zip(tries, said, strict=True) if s == guest]
                count += len(tries)
    return wrong, count


def _on(drawn: Drawn, network: str, but: str) -> str | None:
    """A guest other than this one that is on that network, and on no other."""
    return next((g for g, a in drawn.guests.items() if [x[0] for x in a] == [network] and g != but), None)
