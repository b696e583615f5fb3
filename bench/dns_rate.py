"""DNS answers a second of the caretaker for the lab's own names, beside a common server's with the same names on one
wire, by a public load tool. Limit: half of its rate or more."""

from __future__ import annotations

import re
import subprocess
import sys
import time

from dacha.core.lab.names import link_name
from labs import install_bytecode, verdict
from worlds import DACHA, Pair, pair

GUESTS, SECONDS, LIMIT = 100, 5, 0.5
LAB = '[lab]\nname = "bench"\n[network.pier]\nkind = "nat"\nbackend = "kernel"\nsubnet = "10.80.0.0/24"\n'
GUEST = '[guest.g{n}]\nmemory = "16 MiB"\nadapter = [{{ network = "pier", address = "10.80.0.{last}" }}]\n'
OTHER = "dnsmasq --no-daemon --conf-file=/dev/null --no-resolv --no-hosts --interface=br0 --log-facility=/dev/null"
# (Another user would be given /dev/null itself.)
OTHER += " --user=root"


def load(p: Pair) -> float:
    """Answers a second."""
    said = p.run(p.far, "dnsperf", "-s", "10.80.0.1", "-d", "queries", "-l", str(SECONDS), "-c", "4", "-q", "200")
    rate = re.search(r"Queries per second:\s+([\d.]+)", said)
    lost = re.search(r"Queries lost:\s+(\d+)", said)
    # The load tool fills every queue there is: one in a thousand may get lost in it.
    if not rate or "NOERROR" not in said or not lost or int(lost[1]) > SECONDS * float(rate[1]) / 1000:
        sys.exit(said)
    return float(rate[1])


def main() -> int:
    install_bytecode()
    with pair() as p:
        p.ip("-n", p.far, "address", "add", "10.80.0.250/24", "dev", "w1")
        names = [f"g{n}.bench.internal" for n in range(GUESTS)]
        (p.folder / "queries").write_text("".join(f"{name} A\n" for name in names))
        (p.folder / "lab.toml").write_text(LAB)
        p.dacha("apply")
        # The guests have names from the moment that the file has them; none of them needs to run for that.
        guests = "".join(GUEST.format(n=n, last=10 + n) for n in range(GUESTS))
        (p.folder / "lab.toml").write_text(LAB + guests)
        p.dacha("caretaker", "stop")
        (p.folder / "state/labs/bench/applied.toml").unlink()  # the caretaker keeps a lab as it was applied
        serving = subprocess.Popen(p.inside(p.host, *CARETAKER), env=p.env, cwd=p.folder, stderr=subprocess.DEVNULL)
        p.ip("-n", p.host, "link", "set", "w0", "master", link_name("bench", "network", "pier"))
        p.load_rules()
        try:
            time.sleep(2)
            ours = load(p)
        finally:
            serving.terminate()
            serving.wait()
        p.ip("-n", p.host, "link", "set", "w0", "nomaster")
        (p.folder / "lab.toml").write_text('[lab]\nname = "bench"\n')
        p.dacha("apply")
        for words in (("link", "add", "br0", "type", "bridge"), ("link", "set", "w0", "master", "br0"),
                      ("address", "add", "10.80.0.1/24", "dev", "br0"), ("link", "set", "br0", "up")):  # fmt: skip
            p.ip("-n", p.host, *words)
        p.ip("-n", p.far, "neighbour", "flush", "dev", "w1")
        hosts = [f"--address=/{name}/10.80.0.{10 + n}" for n, name in enumerate(names)]
        other = subprocess.Popen(p.inside(p.host, *OTHER.split(), *hosts), stderr=subprocess.DEVNULL)
        try:
            time.sleep(1)
            theirs = load(p)
        finally:
            other.terminate()
            other.wait()
    print(f"the caretaker {ours:.0f} answers/s, {OTHER.split()[0]} {theirs:.0f}/s")
    return verdict(f"{ours / theirs:.2f} x", f"limit {LIMIT} x", ours / theirs >= LIMIT)


CARETAKER = (DACHA, "caretaker", "run")
if __name__ == "__main__":
    sys.exit(main())
