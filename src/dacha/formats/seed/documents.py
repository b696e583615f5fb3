"""First-boot data: three documents that a guest's first boot reads from a volume named cidata.

The format that most distributions' images read: meta-data, user-data and network-config version 2, all YAML (YAML 1.2).
Adapters are matched by hardware address, because names differ between systems.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from dacha.core.apply.first_boot import FirstBoot, FirstBootAdapter
from dacha.core.apply.first_boot_state import DONE_WORDS
from dacha.core.lab.families import family_of
from dacha.formats.seed.setup import setup_data
from dacha.formats.shares import smb_mounts

# Mounts a shared folder, now and at every boot: name, mount point, options.
MOUNT = (
    'mkdir -p "$2"; grep -q "^$1 $2 " /etc/fstab || echo "$1 $2 virtiofs $3 0 0" >> /etc/fstab; '
    'mountpoint -q "$2" || mount -t virtiofs -o "$3" "$1" "$2"'
)
NOBODY: Mapping[str, str] = MappingProxyType({})


def documents(
    facts: FirstBoot,
    *,
    instance: str,
    host_key_private: str,
    passwords: Mapping[str, str] = NOBODY,
    share_password: str = "",
) -> dict[str, str]:
    """The documents by file name. `facts` are those of `core.apply.first_boot.first_boot`; `instance` identifies this
    content: a guest that sees a new instance applies the data again. `passwords` are hashes (crypt(5)) by user;
    `share_password` is for its SMB shares."""
    return {
        "meta-data": yaml_text({"instance-id": instance, "local-hostname": facts["host_name"]}),
        "user-data": "#cloud-config\n" + yaml_text(user_data(facts, host_key_private, passwords, share_password)),
        "network-config": yaml_text(network_config(facts["adapters"])),
    }


def user_data(
    facts: FirstBoot, host_key_private: str, passwords: Mapping[str, str], share_password: str = ""
) -> dict[str, Any]:
    data: dict[str, Any] = {
        "hostname": facts["host_name"],
        "fqdn": facts["full_name"],
        "manage_etc_hosts": True,
        "ssh_pwauth": False,
        "disable_root": True,
        "ssh_deletekeys": True,
        "final_message": DONE_WORDS,
        "ssh_keys": {"ed25519_private": host_key_private, "ed25519_public": facts["host_key"]},
    }
    if facts["user"]:
        user = {
            "name": facts["user"],
            "lock_passwd": True,
            "sudo": "ALL=(ALL) NOPASSWD:ALL",
            "ssh_authorized_keys": facts["keys"],
        }
        # useradd's default is a plain sh; if the family always has a better shell, the user gets that.
        shell = family_of(facts["system"]).shell
        groups = {"groups": facts["groups"]} if "groups" in facts else {}
        data["users"] = [user | ({"shell": shell} if shell else {}) | groups]
    if "setup" in facts:
        told = setup_data(facts["setup"], facts["system"], facts["user"])
        data["users"] = [*data.get("users", ()), *told.pop("users")]
        data |= told
        if not data["users"]:
            del data["users"]
    if "shares" in facts and facts["system"] != "windows":
        _share(data, facts, share_password)
    for user in data.get("users", ()):
        if user["name"] in passwords:
            user |= {"passwd": passwords[user["name"]], "lock_passwd": False}
    return data


def _share(data: dict[str, Any], facts: FirstBoot, password: str) -> None:
    """Mount shared folders: those by virtio-fs at every boot, early; those by SMB after their package is installed, and
    then by the system."""
    devices = [s for s in facts["shares"] if "server" not in s]
    served = [s for s in facts["shares"] if "server" in s]
    if devices:
        data["bootcmd"] = [
            ["sh", "-c", MOUNT, "share", s["name"], s["at"], f"{'ro' if s['read_only'] else 'rw'},nofail"]
            for s in devices
        ]
    if not served:
        return
    secret = {"path": smb_mounts.CREDENTIALS, "content": smb_mounts.credentials(password), "permissions": "0600"}
    data["write_files"] = [*data.get("write_files", ()), secret]
    helper = family_of(facts["system"]).smb_helper
    if helper:
        data["package_update"] = True
        data["packages"] = [*data.get("packages", ()), *([helper] if helper not in data.get("packages", ()) else [])]
    mounted = [command for s in served for command in (*smb_mounts.linux(s, facts["system"]), f"mount {s['at']}")]
    data["runcmd"] = [*mounted, *data.get("runcmd", ())]


def network_config(adapters: list[FirstBootAdapter]) -> dict[str, Any]:
    ethernets = {}
    for n, a in enumerate(adapters):
        here: dict[str, Any] = {"match": {"macaddress": a["hardware_address"]}}
        addresses = [x for x in (a["address"], a["address6"]) if x]
        here["dhcp4"] = not a["address"]
        if addresses:
            here["addresses"] = addresses
        # Some versions refuse "default" here; all of them accept the prefix of length 0.
        routes = [{"to": to, "via": via} for to, via in (("0.0.0.0/0", a["gateway"]), ("::/0", a["gateway6"])) if via]
        if routes:
            here["routes"] = routes
        if a["name_servers"] and addresses:
            here["nameservers"] = {"addresses": a["name_servers"]}
        ethernets[f"adapter{n}"] = here
    return {"version": 2, "ethernets": ethernets}


def yaml_text(value: Any) -> str:
    import yaml

    class Dumper(yaml.SafeDumper):
        """Long text in block form, so that a key is readable (and found by simple tools)."""

    def text(dumper: yaml.SafeDumper, data: str) -> yaml.ScalarNode:
        return dumper.represent_scalar("tag:yaml.org,2002:str", data, style="|" if "\n" in data else None)

    Dumper.add_representer(str, text)
    return yaml.dump(value, Dumper=Dumper, sort_keys=False, default_flow_style=False, width=10_000)
