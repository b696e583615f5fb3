"""Answer file for FreeBSD: an installerconfig (bsdinstall(8)); its second part runs inside the new system."""

from __future__ import annotations

import shlex
from ipaddress import ip_interface

from dacha.core.apply.answers import Answers
from dacha.formats.answers.finish import script

# Names of adapters and disks, by this system's drivers.
_ADAPTER = "vtnet"
_DISKS = {"virtio": "vtbd0", "sata": "ada0", "scsi": "da0", "nvme": "nda0"}


def documents(answers: Answers) -> dict[str, str]:
    """The only file of the volume."""
    return {"installerconfig": installerconfig(answers)}


def installerconfig(answers: Answers) -> str:
    """A preamble of variables, followed by the script."""
    facts, setup = answers.facts, answers.setup
    lines = [
        f"# The answers of {facts['full_name']} to its installer.",
        f'PARTITIONS="{_DISKS[answers.bus]} auto freebsd-ufs"',
        'DISTRIBUTIONS="kernel.txz base.txz"',
        "export nonInteractive=YES",
        *([f"export HTTP_PROXY={shlex.quote(answers.proxy)}"] if answers.proxy else []),
        *([f"BSDINSTALL_DISTSITE={shlex.quote(answers.mirror)}"] if answers.mirror else []),
        "",
        *script(answers, "bsd").rstrip("\n").split("\n")[:1],
        f'sysrc hostname="{facts["full_name"]}"',
    ]
    for n, a in enumerate(facts["adapters"]):
        name = f"{_ADAPTER}{n}"
        if a["address"]:
            own = ip_interface(a["address"])
            lines.append(f'sysrc ifconfig_{name}="inet {own.ip} netmask {own.netmask}"')
        else:
            lines.append(f'sysrc ifconfig_{name}="DHCP"')
        if a["address6"]:
            address, _, prefix = a["address6"].partition("/")
            lines.append(f'sysrc ifconfig_{name}_ipv6="inet6 {address} prefixlen {prefix}"')
        lines += [f'sysrc defaultrouter="{a["gateway"]}"'] if a["gateway"] else []
        lines += [f'sysrc ipv6_defaultrouter="{a["gateway6"]}"'] if a["gateway6"] else []
    for server in dict.fromkeys(s for a in facts["adapters"] if a["address"] for s in a["name_servers"]):
        lines.append(f"echo nameserver {server} >> /etc/resolv.conf")
    lines += [f"cp /usr/share/zoneinfo/{setup['time_zone'] or 'UTC'} /etc/localtime"]
    lines += [f'sysrc keymap="{setup["keyboard"]}"'] if setup["keyboard"] else []
    lines += ["echo 'console=\"comconsole,vidconsole\"' >> /boot/loader.conf"]
    lines += script(answers, "bsd").rstrip("\n").split("\n")[1:]
    return "\n".join([*lines, "poweroff", ""])
