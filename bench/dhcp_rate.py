"""DHCP exchanges a second of the caretaker, beside those of a common server on the same wire, by a public load tool.

Limits: half of its rate or more; 200 machines that ask at once are all served within 5 s, none lost. The caretaker asks
on the wire whether a dynamic address is free before it offers it; the other server is told not to.
"""

from __future__ import annotations

import re
import subprocess
import sys
import time

from dacha.core.lab.names import link_name
from labs import install_bytecode, verdict
from worlds import DACHA, Pair, pair

RATE, SECONDS, CLIENTS = 1_000, 4, 4_000
LIMIT, BOOTING, BOOTING_S = 0.5, 200, 5
LAB = """[lab]
name = "bench"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.80.0.0/16"
dynamic = "10.80.16.1-10.80.99.250"
"""
GUEST = """[guest.g{n}]
memory = "16 MiB"
adapter = [{{ network = "pier", address = "{address}", hardware-address = "{mac}" }}]
"""
OTHER = ["dnsmasq", "--port=0", "--no-daemon", "--conf-file=/dev/null", "--interface=br0", "--no-ping"]
OTHER += ["--dhcp-authoritative", "--dhcp-range=10.80.16.1,10.80.99.250,1h", "--dhcp-lease-max=50000"]
OTHER += ["--log-facility=/dev/null", "--user=root"]  # another user would be given /dev/null itself


def load(p: Pair, *options: str) -> tuple[float, int, list[int]]:
    """Completed exchanges a second, how many there were, and DISCOVERs and REQUESTs that stayed without an answer."""
    said = p.run(p.far, "perfdhcp", "-4", "-W", "2000000", "-l", "w1", *options, "10.80.0.1", check=False)
    rate = re.search(r"Rate: ([\d.]+) 4-way exchanges/second", said)
    received = [int(x) for x in re.findall(r"received packets: (\d+)", said)]
    drops = [int(x) for x in re.findall(r"drops: (\d+)\n", said)]
    if not rate:
        sys.exit(said)
    return float(rate[1]), received[1], drops


def flood(p: Pair) -> tuple[float, int, list[int]]:
    return load(p, "-r", str(RATE), "-R", str(CLIENTS), "-p", str(SECONDS), "-b", "mac=00:0c:01:02:03:04")


def main() -> int:
    install_bytecode()
    with pair() as p:
        p.ip("-n", p.far, "address", "add", "10.80.0.9/16", "dev", "w1")
        (p.folder / "lab.toml").write_text(LAB)
        p.dacha("apply")
        p.ip("-n", p.host, "link", "set", "w0", "master", link_name("bench", "network", "pier"))
        # The machines that ask at once are guests of the lab, known by their hardware addresses; none has to run.
        macs = [(0x000C09020304 + n).to_bytes(6, "big").hex(":") for n in range(BOOTING)]
        guests = [GUEST.format(n=n, address=f"10.80.1.{1 + n}", mac=mac) for n, mac in enumerate(macs)]
        (p.folder / "lab.toml").write_text(LAB + "".join(guests))
        p.dacha("caretaker", "stop")
        # The caretaker keeps a lab as it was applied; this one never is, as none of its guests has to run.
        (p.folder / "state/labs/bench/applied.toml").unlink()
        p.load_rules()
        serving = subprocess.Popen(
            p.inside(p.host, DACHA, "caretaker", "run"), env=p.env, cwd=p.folder, stderr=subprocess.DEVNULL
        )
        time.sleep(2)
        for _ in range(5):
            began = time.monotonic()
            burst = ("-r", "5000", "-R", str(BOOTING), "-n", str(BOOTING), "-b", "mac=00:0c:09:02:03:04")
            _, served, drops = load(p, *burst)
            took = time.monotonic() - began
            if took >= 2.0:
                break  # the load tool sometimes ends without its wait at the end, and counts what is on its way as lost
        ours = flood(p)
        p.dacha("caretaker", "stop")
        serving.wait()
        (p.folder / "lab.toml").write_text('[lab]\nname = "bench"\n')
        p.dacha("apply")
        for words in (("link", "add", "br0", "type", "bridge"), ("link", "set", "w0", "master", "br0"),
                      ("address", "add", "10.80.0.1/16", "dev", "br0"), ("link", "set", "br0", "up")):  # fmt: skip
            p.ip("-n", p.host, *words)
        p.ip("-n", p.far, "neighbour", "flush", "dev", "w1")  # the gateway is another link now
        other = subprocess.Popen(
            p.inside(p.host, *OTHER, f"--dhcp-leasefile={p.folder}/leases"),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        try:
            time.sleep(1)
            theirs = flood(p)
        finally:
            other.terminate()
            other.wait()
    print(f"asked for {RATE}/s: the caretaker {ours[0]:.0f} exchanges/s, unanswered DISCOVER and REQUEST {ours[2]}")
    print(f"{OTHER[0]:>31} {theirs[0]:.0f} exchanges/s, unanswered {theirs[2]}")
    print(f"{BOOTING} at once: {served} served in {took:.1f} s, 2 s of it the wait at the end; lost {drops}")
    ratio = ours[0] / theirs[0]
    held = ratio >= LIMIT and served >= BOOTING and sum(drops) == 0 and took < BOOTING_S + 2
    return verdict(f"{ratio:.1f} x", f"limit {LIMIT} x, {BOOTING} served", held)


if __name__ == "__main__":
    sys.exit(main())
