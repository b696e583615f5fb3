"""A file of 100 MB by TFTP from the caretaker, beside a common server's, to one common client on the same wire; then
twenty clients at once.

Limit: half of its rate or more, and all twenty have their file.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time

from dacha.core.lab.names import link_name
from labs import install_bytecode, verdict
from worlds import Pair, pair

SIZE, MANY, SMALL = 100_000_000, 20, 2_000_000
LIMIT, BLOCK = 0.5, 1468
LAB = """[lab]
name = "bench"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.80.0.0/16"
boot = { files = "netboot" }
"""
OTHER = ["dnsmasq", "--port=0", "--no-daemon", "--conf-file=/dev/null", "--enable-tftp", "--user=root"]


def fetch(p: Pair, name: str) -> float:
    """Megabytes a second of one file, fetched whole."""
    began = time.monotonic()
    address = f"tftp://10.80.0.1/{name}"
    said = p.run(
        p.far, "curl", "-s", "-m", "300", "--tftp-blksize", str(BLOCK), "-o", "got", "-w", "%{size_download}", address
    )
    took = time.monotonic() - began
    if (p.folder / "got").read_bytes() != (p.folder / "netboot" / name).read_bytes():
        sys.exit(f"{name} did not arrive whole: {said}")
    return (p.folder / "got").stat().st_size / took / 1e6


def at_once(p: Pair) -> int:
    """How many of the clients that ask at once have the whole file."""
    for n in range(MANY):
        p.ip("-n", p.far, "address", "add", f"10.80.0.{100 + n}/16", "dev", "w1")
    command = ["curl", "-s", "-m", "120", "--tftp-blksize", str(BLOCK)]
    clients = []
    for n in range(MANY):
        mine = [*command, "--interface", f"10.80.0.{100 + n}", "-o", f"got{n}", "tftp://10.80.0.1/small"]
        clients.append(subprocess.Popen(p.inside(p.far, *mine), cwd=p.folder, stderr=subprocess.DEVNULL))
    for client in clients:
        client.wait()
    wanted = (p.folder / "netboot/small").read_bytes()
    return sum((p.folder / f"got{n}").exists() and (p.folder / f"got{n}").read_bytes() == wanted for n in range(MANY))


def main() -> int:
    install_bytecode()
    with pair() as p:
        (p.folder / "netboot").mkdir()
        (p.folder / "netboot/big").write_bytes(os.urandom(SIZE))
        (p.folder / "netboot/small").write_bytes(os.urandom(SMALL))
        p.ip("-n", p.far, "address", "add", "10.80.0.9/16", "dev", "w1")
        (p.folder / "lab.toml").write_text(LAB)
        p.dacha("apply")
        p.ip("-n", p.host, "link", "set", "w0", "master", link_name("bench", "network", "pier"))
        time.sleep(1)
        ours, served = fetch(p, "big"), at_once(p)
        (p.folder / "lab.toml").write_text('[lab]\nname = "bench"\n')
        p.dacha("apply")
        for words in (("link", "add", "br0", "type", "bridge"), ("link", "set", "w0", "master", "br0"),
                      ("address", "add", "10.80.0.1/16", "dev", "br0"), ("link", "set", "br0", "up")):  # fmt: skip
            p.ip("-n", p.host, *words)
        p.ip("-n", p.far, "neighbour", "flush", "dev", "w1")
        (p.folder / "netboot").chmod(0o755)
        p.folder.chmod(0o755)
        other = subprocess.Popen(
            p.inside(p.host, *OTHER, f"--tftp-root={p.folder}/netboot"),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        try:
            time.sleep(1)
            theirs = fetch(p, "big")
        finally:
            other.terminate()
            other.wait()
    print(f"{SIZE // 1_000_000} MB, blocks of {BLOCK}: the caretaker {ours:.1f} MB/s, {OTHER[0]} {theirs:.1f} MB/s")
    print(f"{MANY} clients at once: {served} have the whole file")
    return verdict(
        f"{ours / theirs:.2f} x", f"limit {LIMIT} x, {MANY} served", ours / theirs >= LIMIT and served == MANY
    )


if __name__ == "__main__":
    sys.exit(main())
