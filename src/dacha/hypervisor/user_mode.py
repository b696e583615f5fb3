"""QEMU's user-mode network, as options of its command line."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.apply.machine import Machine, MachineAdapter
from dacha.core.plan.doors import Forward


def comma(path: str) -> str:
    """A path inside a comma-separated option: commas are doubled (qemu(1))."""
    return path.replace(",", ",,")


def user_network(name: str, m: Machine, adapter: MachineAdapter, forwards: Iterable[Forward]) -> str:
    parts = [
        "user",
        f"id={name}",
        f"restrict={'on' if adapter['isolated'] else 'off'}",
        f"hostname={m['guest']}",
        f"domainname={m['lab']}.internal",
    ]
    if adapter["subnet"]:
        parts += [f"net={adapter['subnet']}", f"host={adapter['gateway']}", f"dns={adapter['resolver']}"]
        if adapter["address"]:
            # The private segment has one guest: the built-in DHCP server starts at its planned address, so that a guest
            # that uses DHCP gets the same one.
            parts.append(f"dhcpstart={adapter['address']}")
    if adapter["subnet6"]:
        net, _, prefix = adapter["subnet6"].partition("/")
        parts += [f"ipv6-prefix={net}", f"ipv6-prefixlen={prefix}", f"ipv6-host={adapter['gateway6']}"]
    else:
        parts.append("ipv6=off")
    if boot := adapter.get("boot"):
        parts += [f"tftp={comma(boot[0])}", f"bootfile={comma(boot[1])}"]
    parts += [f"hostfwd={hostfwd(f)}" for f in forwards]
    return ",".join(parts)


def hostfwd(forward: Forward) -> str:
    """A forward in QEMU's syntax. The guest's address is always explicit: otherwise QEMU assumes one, and may silently
    use the wrong one."""
    return f"{forward.protocol}:{forward.listen}:{forward.port}-{forward.address}:{forward.to}"
