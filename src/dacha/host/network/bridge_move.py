"""This host's addresses and routes moved from one link to another: from an adapter to a bridge over it, and back."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterator
from typing import Any

from dacha.core.errors import HostError
from dacha.host.facts import program
from dacha.host.network import iproute


def make_bridge(bridge: str, alias: str, adapter: str) -> None:
    """Make a bridge over an adapter: it gets the adapter's hardware address, and whatever address and route the host
    had there. All in one go; what fails half-way is undone. Raises HostError."""
    hardware = iproute.links()[adapter].hardware_address
    lines = [
        f"link add name {bridge} type bridge forward_delay 0",
        f"link set dev {bridge} alias {alias}",
        f"link set dev {bridge} address {hardware}",
        f"link set dev {bridge} up",
        f"link set dev {adapter} master {bridge}",
        *_shift(adapter, bridge),
    ]
    try:
        iproute.batch(lines)
    except HostError:
        if bridge in iproute.links():
            unmake_bridge(bridge, adapter)
        raise


def unmake_bridge(bridge: str, adapter: str) -> None:
    """Take the bridge away; the adapter gets back what the bridge has of the host's. Raises HostError."""
    there = iproute.links()
    lines = list(_shift(bridge, adapter)) if adapter in there else []
    if adapter in there:
        lines.insert(0, f"link set dev {adapter} nomaster")
    iproute.batch([*lines, f"link delete {bridge}"])


def _shift(source: str, target: str) -> Iterator[str]:
    """What moves every address and route from one link to another. Link-local ones are each link's own."""
    (link,) = _ask("address", "show", "dev", source)
    addresses = [a for a in link.get("addr_info", ()) if a.get("scope") != "link"]
    routes = []
    for family, everywhere in (("-4", "0.0.0.0/0"), ("-6", "::/0")):
        for r in _ask(family, "route", "show", "dev", source):
            # The kernel's own routes come with the addresses.
            if r.get("protocol") != "kernel":
                routes.append(r | {"dst": everywhere if r["dst"] == "default" else r["dst"]})
    for a in addresses:
        yield f"address delete {a['local']}/{a['prefixlen']} dev {source}"
    for a in addresses:
        parts = [f"address replace {a['local']}/{a['prefixlen']} dev {target}"]
        if a.get("broadcast"):
            parts.append(f"broadcast {a['broadcast']}")
        if a.get("dynamic"):
            parts.append(f"valid_lft {a['valid_life_time']} preferred_lft {a['preferred_life_time']}")
        # It was this host's a moment ago: nobody is asked whether it is free.
        yield " ".join([*parts, *(["nodad"] if a["family"] == "inet6" else [])])
    # Those without a gateway go first, as others lead over them.
    for r in sorted(routes, key=lambda r: "gateway" in r):
        parts = [f"route replace {r['dst']}"]
        parts += [f"{word} {r[key]}" for key, word in (("gateway", "via"), ("prefsrc", "src")) if key in r]
        yield " ".join([*parts, f"dev {target}", *([f"metric {r['metric']}"] if "metric" in r else [])])


def _ask(*words: str) -> list[dict[str, Any]]:
    done = subprocess.run([program("ip") or "ip", "-json", *words], capture_output=True, check=False)
    if done.returncode:
        raise HostError("cannot read this host's links", why=done.stderr.decode(errors="replace").strip())
    return [row for row in json.loads(done.stdout or "[]") if row]
