"""Answer file for Ubuntu's server installer: autoinstall version 1, in the user-data of a volume named cidata.

The setup of the installed system is embedded as its first-boot data, as for an image.
"""

from __future__ import annotations

from typing import Any

from dacha.core.apply.answers import Answers
from dacha.formats.seed.documents import network_config, user_data, yaml_text

KERNELS = (("/casper/vmlinuz", "/casper/initrd"), ("/casper/hwe-vmlinuz", "/casper/hwe-initrd"))
# With this word, the installer does not ask for a confirmation before it writes to the disk.
COMMAND_LINE = "autoinstall console=tty0 console=ttyS0,115200 ---"


def documents(answers: Answers) -> dict[str, str]:
    """user-data and meta-data of the volume."""
    return {
        "user-data": "#cloud-config\n" + yaml_text({"autoinstall": autoinstall(answers)}),
        "meta-data": yaml_text({"instance-id": f"{answers.facts['uuid']}-installer"}),
    }


def autoinstall(answers: Answers) -> dict[str, Any]:
    """The tree of answers."""
    setup = answers.setup
    told = user_data(answers.facts, answers.host_key_private, answers.passwords)
    tree: dict[str, Any] = {
        "version": 1,
        "locale": setup["locale"] or "en_US.UTF-8",
        "keyboard": {"layout": setup["keyboard"] or "us"},
        "network": network_config(answers.facts["adapters"]),
        "ssh": {"install-server": True, "allow-pw": False},
        "storage": {"layout": {"name": "direct", "match": {"path": answers.disk}}},
        "packages": ["qemu-guest-agent"],
        "updates": "all" if setup["update"] else "security",
        "timezone": setup["time_zone"] or "Etc/UTC",
        "user-data": told,
        # Powers off at the end: Dacha ejects the medium, and starts the guest from its disk.
        "shutdown": "poweroff",
    }
    if answers.proxy:
        tree["proxy"] = answers.proxy
    if answers.mirror:
        tree["apt"] = {"mirror-selection": {"primary": [{"uri": answers.mirror, "arches": ["amd64"]}]}}
    return tree
