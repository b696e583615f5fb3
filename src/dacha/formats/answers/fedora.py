"""Answer file for Fedora and related systems: a kickstart file (pykickstart's reference), found on a volume OEMDRV."""

from __future__ import annotations

import shlex
from ipaddress import ip_interface

from dacha.core.apply.answers import Answers
from dacha.core.apply.first_boot import FirstBootAdapter
from dacha.formats.answers.finish import script
from dacha.formats.remote_desktop import remote_desktop


def documents(answers: Answers) -> dict[str, str]:
    """The only file of the volume."""
    return {"ks.cfg": kickstart(answers)}


def kickstart(answers: Answers) -> str:
    """The kickstart file; accounts, keys and files are created by the script at its end."""
    setup, disk = answers.setup, answers.disk.removeprefix("/dev/")
    lines = [
        f"# The answers of {answers.facts['full_name']} to its installer.",
        "text",
        f"lang {setup['locale'] or 'en_US.UTF-8'}",
        f"keyboard --xlayouts={setup['keyboard'] or 'us'}",
        f"timezone {setup['time_zone'] or 'Etc/UTC'} --utc",
        *[_network(answers, n, a) for n, a in enumerate(answers.facts["adapters"])],
        *([_url(answers.mirror, answers.proxy)] if answers.mirror else []),
        "rootpw --lock",
        "services --enabled=sshd",
        "firewall --enabled --service=ssh",
        "firstboot --disable",
        # Without a known user, the installer would ask for one.
        *[f"user --name={u['name']} --lock" for u in answers.users],
        "",
        "# The whole first disk.",
        f"ignoredisk --only-use={disk}",
        "zerombr",
        f"clearpart --all --initlabel --drives={disk}",
        "autopart --type=plain",
        f"bootloader --boot-drive={disk} --append='console=tty0 console=ttyS0,115200'",
        "",
        "%packages",
        "@core",
        "openssh-server",
        "sudo",
        "qemu-guest-agent",
        *(["dnf-automatic"] if setup["automatic_updates"] else []),
        *(remote_desktop("dnf", ()).packages if setup.get("remote_desktop") else ()),
        *([] if answers.packages_later else answers.packages),
        "%end",
        "",
        "%post",
        *script(answers, "fedora").rstrip("\n").split("\n")[1:],
        *(["dnf --assumeyes upgrade"] if setup["update"] else []),
        *(["systemctl enable dnf-automatic-install.timer"] if setup["automatic_updates"] else []),
        "%end",
        "",
        "# It ends by powering off: Dacha takes the medium away, and starts it from its disk.",
        "poweroff",
    ]
    return "\n".join([*lines, ""])


def _url(mirror: str, proxy: str | None) -> str:
    """The url command with the package source and, if set, the proxy."""
    return f"url --url={shlex.quote(mirror)}" + (f" --proxy={shlex.quote(proxy)}" if proxy else "")


def _network(answers: Answers, n: int, a: FirstBootAdapter) -> str:
    words = ["network", f"--device={a['hardware_address']}", "--activate", "--onboot=on"]
    if n == 0:
        words.append(f"--hostname={answers.facts['full_name']}")
    if a["address"]:
        own = ip_interface(a["address"])
        words += ["--bootproto=static", f"--ip={own.ip}", f"--netmask={own.netmask}"]
        words += [f"--gateway={a['gateway']}"] if a["gateway"] else ["--nodefroute"]
    else:
        words.append("--bootproto=dhcp")
    if a["address6"]:
        words.append(f"--ipv6={a['address6']}")
        words += [f"--ipv6gateway={a['gateway6']}"] if a["gateway6"] else []
    if a["name_servers"] and (a["address"] or a["address6"]):
        words.append(f"--nameserver={','.join(a['name_servers'])}")
    return " ".join(words)
