"""`odd_links.py FIRST COUNT`, in a network namespace of its own: an adapter with addresses, routes, rules and settings
drawn at random is made a port of a bridge, and given back; killed at each step in between, the way back is gone all the
same. Prints what differs from before, nothing where all is as it was, and at the end how much was tried."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.host.network import bridge_move, iproute
from dacha.host.network.link import state as link_state

BRIDGE, ALIAS = "br7", "dacha:real:bridge:eth0"


def ip(*words: str) -> str:
    done = subprocess.run(["ip", *words], capture_output=True, text=True, check=False)
    return done.stdout


def make_link() -> None:
    for name in ("all", "default"):  # a test does not wait for what nobody has
        Path(f"/proc/sys/net/ipv6/conf/{name}/accept_dad").write_text("0")
    for line in (
        "link set lo up", "link add eth1 type veth peer name far1", "link set far1 addrgenmode none up",
        "link set eth1 addrgenmode none up", "address add 198.51.100.9/24 dev eth1",
    ):  # fmt: skip
        ip(*line.split())


def odd(dice: random.Random) -> Iterator[str]:
    """What somebody may have given their adapter: words for ip, and settings as NAME=VALUE."""
    some = dice.random
    yield f"ipv4/conf/eth0/promote_secondaries={dice.randrange(2)}"
    for name, values in (("rp_filter", "012"), ("arp_ignore", "01"), ("proxy_arp", "01"), ("log_martians", "01")):
        if some() < 0.4:
            yield f"ipv4/conf/eth0/{name}={dice.choice(values)}"
    for name, values in (("accept_ra", "012"), ("use_tempaddr", "02"), ("addr_gen_mode", "01"), ("hop_limit", "9")):
        if some() < 0.4:
            yield f"ipv6/conf/eth0/{name}={dice.choice(values)}"
    if some() < 0.2:
        yield "ipv6/conf/eth0/disable_ipv6=1"
    yield f"link set eth0 mtu {dice.choice((1280, 1400, 1500, 9000))} up"
    shape = dice.choice(("usual", "onlink", "pair", "peer", "many", "none"))
    if shape == "usual":
        yield "address add 203.0.113.7/24 broadcast + dev eth0" + dice.choice(("", " metric 50", " noprefixroute"))
        yield "route add 203.0.113.0/24 dev eth0 metric 77"
        yield "route add default via 203.0.113.1 dev eth0" + dice.choice(
            ("", " src 203.0.113.7", " advmss 1200 mtu 1300")
        )
    if shape == "onlink":
        yield "address add 203.0.113.7/32 dev eth0"
        yield "route add default via 203.0.113.1 dev eth0 onlink metric 100"
    if shape == "pair":
        yield "address add 203.0.113.6/31 dev eth0"
        yield "route add default via 203.0.113.7 proto static"
    if shape == "peer":
        yield "address add 203.0.113.7 peer 203.0.113.1/32 dev eth0"
        yield "route add default via 203.0.113.1"
    if shape == "many":
        for n in dice.sample(range(10, 30), 4):
            yield f"address add 203.0.113.{n}/24 dev eth0" + dice.choice(
                ("", f" label eth0:{n}", " valid_lft 900 preferred_lft 300")
            )
        yield "address add 192.0.2.9/25 dev eth0"
        if some() < 0.3:
            yield "route delete 192.0.2.0/25 dev eth0"
        yield f"route add default via 203.0.113.1 metric {dice.randrange(1, 999)}"
    if some() < 0.3:
        yield "address add 169.254.7.7/16 scope link dev eth0"
    for n in range(dice.randrange(3)):
        yield f"address add 2001:db8:{n}::{dice.randrange(1, 99)}/64 dev eth0" + dice.choice(
            ("", " noprefixroute", " nodad", " valid_lft 900 preferred_lft 300", " preferred_lft 0"))  # fmt: skip
    if some() < 0.3:
        yield "address add fe80::77/64 dev eth0"
    more = (
        "route add 10.9.0.0/16 via 203.0.113.1 dev eth0 onlink", "route add 10.8.0.0/16 dev eth0 table 100",
        "route add default via 203.0.113.1 dev eth0 onlink table 200 metric 5", "route add throw 10.7.0.0/16 table 100",
        "route add 10.6.0.0/16 nexthop via 203.0.113.1 dev eth0 onlink weight 3 nexthop via 198.51.100.1 dev eth1",
        "route add local 10.5.0.0/24 dev eth0 proto static", "route add 10.4.0.0/16 dev eth0 tos 0x10 scope link",
        "route add 10.3.0.0/16 dev eth0 mtu lock 1300 window 9000 initcwnd 20",
        "-6 route add default via fe80::1 dev eth0 metric 1024", "-6 route add 2001:db8:f::/48 dev eth0 table 100",
        "-6 route add 2001:db8:e::/48 via fe80::1 dev eth0 expires 600 proto ra",
        "-6 route add 2001:db8:d::/48 nexthop via fe80::1 dev eth0 nexthop via fe80::2 dev eth0",
        "rule add iif eth0 lookup 100 priority 500",
        "rule add oif eth0 lookup 200 priority 600 suppress_prefixlength 0",
        "-6 rule add iif eth0 lookup 100 priority 500", "rule add from 203.0.113.7 lookup 200",
        "neigh add 203.0.113.1 lladdr 52:54:00:00:00:01 dev eth0 nud permanent",
        "-6 neigh add fe80::1 lladdr 52:54:00:00:00:01 dev eth0 nud permanent",
        "neigh add proxy 203.0.113.99 dev eth0", "-6 neigh add proxy 2001:db8::99 dev eth0",
    )  # fmt: skip
    yield from dice.sample(more, dice.randrange(4, 14))


def give(dice: random.Random) -> list[str]:
    given = []
    for line in odd(dice):
        name, equals, value = line.partition("=")
        if equals:
            Path("/proc/sys/net", name).write_text(value)
        else:
            ip(*line.split())
        given.append(line)
    return given


def plain(row: Any) -> Any:
    """A row of ip's without what runs down by itself."""
    if isinstance(row, dict):
        runs = ("valid_life_time", "preferred_life_time", "expires", "used", "refcnt")
        return {k: bool(v) if k in runs else plain(v) for k, v in row.items() if k not in ("tentative", "used")}
    return [plain(x) for x in row] if isinstance(row, list) else row


def settled(link: str) -> None:
    """Wait until its IPv6 addresses are usable: only then do their routes appear (RFC 4862 section 5.4)."""
    deadline = time.monotonic() + 10
    while time.monotonic() < deadline:
        told = json.loads(ip("-json", "-6", "address", "show", "dev", link, "tentative") or "[]")
        if not any(row.get("addr_info") for row in told):
            return
        time.sleep(0.02)


def seen(link: str) -> dict[str, Any]:
    """Everything that this host has, with the link called by one name."""
    rows: dict[str, Any] = {}
    for family in ("-4", "-6"):
        for what in ("route show table all", "rule show", "neigh show nud permanent", "neigh show proxy"):
            told = json.loads(ip("-json", "-details", family, *what.split()) or "[]")
            rows[f"{family} {what}"] = sorted(json.dumps(plain(r), sort_keys=True) for r in told)
        (told,) = json.loads(ip("-json", "-details", family, "address", "show", "dev", link)) or [{}]
        rows[f"{family} address"] = [json.dumps(plain(a), sort_keys=True) for a in told.get("addr_info", ())]
    rows["mtu"] = link_state.mtu(link)
    for place in sorted(Path("/proc/sys/net").glob(f"ipv[46]/conf/{link}/*")):
        try:
            rows[f"{place.parts[4]} {place.name}"] = place.read_text().strip()
        except OSError:
            continue
    return rows


def differences(before: dict[str, Any], after: dict[str, Any]) -> list[str]:
    found = []
    for key, value in before.items():
        now = after.get(key)
        if isinstance(value, list) and value != now:
            found += [f"{key}: lost {x}" for x in value if x not in now] + [
                f"{key}: new {x}" for x in now if x not in value
            ]
            found += [] if sorted(value) != sorted(now) else [f"{key}: another order {value} {now}"]
        elif value != now:
            found.append(f"{key}: {value} is {now} now")
    return found


def killed_at(step: int, work: Callable[[], None]) -> bool:
    """Do the work in a process that is killed before its step of this number; False where it came to its end."""
    child = os.fork()
    if not child:
        counted = [0]

        def counting(real: Any) -> Any:
            def called(*arguments: Any, **options: Any) -> Any:
                if counted[0] == step:
                    os._exit(77)
                counted[0] += 1
                return real(*arguments, **options)

            return called

        link_state._Kernel.say = counting(link_state._Kernel.say)  # type: ignore[method-assign]
        iproute.batch = counting(iproute.batch)
        try:
            work()
        except BaseException as e:
            print(f"step {step}: {e!r}", flush=True)
        os._exit(0)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 77


def wrong_with(seed: int) -> tuple[list[str], int]:
    """One adapter: what differs, and how many steps were killed."""
    ip("link", "delete", "eth0")
    ip("link", "add", "eth0", "address", "52:54:00:aa:bb:cc", "type", "veth", "peer", "name", "far0")
    ip("link", "set", "far0", "addrgenmode", "none", "up")
    for family in ("-4", "-6"):
        for rule in json.loads(ip("-json", family, "rule") or "[]"):
            if rule["priority"] not in (0, 32766, 32767):
                ip(family, "rule", "delete", "priority", str(rule["priority"]))
    given = give(random.Random(seed))
    settled("eth0")
    before = seen("eth0")
    noted = link_state.LinkState.from_record(json.loads(json.dumps(link_state.read("eth0").record())))
    found: list[str] = []

    def make() -> None:
        bridge_move.make_bridge(BRIDGE, ALIAS, noted)

    def back() -> None:
        bridge_move.unmake_bridge(BRIDGE, "eth0", noted, as_noted=True)

    def taken_out() -> None:
        bridge_move.unmake_bridge(BRIDGE, "eth0", noted, as_noted=False)

    def compare(when: str) -> None:
        settled("eth0")
        found.extend(f"{when}: {d}" for d in differences(before, seen("eth0")))
        if BRIDGE in iproute.links():
            found.append(f"{when}: the bridge is there")

    step = 0
    while killed_at(step, make) and not found:
        back()
        compare(f"made, killed at step {step}")
        step += 1
    if not found:
        ours = ("-4 address", "-6 address", "mtu")
        moved = json.loads(json.dumps(seen(BRIDGE)).replace(BRIDGE, "eth0"))
        found += [f"on the bridge: {d}" for d in differences({k: before[k] for k in ours}, moved) if "fe80" not in d]
        back_step = 0
        while killed_at(back_step, taken_out) and not found:
            back()
            compare(f"unmade, killed at step {back_step}")
            make()
            back_step += 1
        step += back_step
        compare("at the end")
    return [f"adapter {seed}: {d}" for d in found] + ([f"  {given}"] if found else []), step


def main() -> None:
    make_link()
    steps = 0
    first, count = map(int, sys.argv[1:])
    for seed in range(first, first + count):
        try:
            found, tried = wrong_with(seed)
        except HostError as e:
            found, tried = [f"adapter {seed}: {e.what}: {e.why}"], 0
        print("\n".join(found), end="\n" if found else "", flush=True)
        steps += tried
        if found:
            bridge_move.unmake_bridge(BRIDGE, "eth0", None, as_noted=True)
    print(f"{count} adapters, killed {steps} times")


if __name__ == "__main__":
    main()
