"""OpenSSH's files of a handout: a configuration to include (ssh_config(5)), and the host keys."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.formats.handout.way_in import WayIn
from dacha.formats.openssh import known_hosts


def ssh_files(lab: str, ways: Iterable[WayIn], key: str = "") -> dict[str, str]:
    """The files by name; none without an SSH way. They belong in ~/.ssh/LAB, with the private key named `key`."""
    mine = [w for w in ways if w.service == "ssh"]
    if not mine:
        return {}
    lines = [f"# The lab {lab}. Copy this folder to ~/.ssh/{lab}, and add to ~/.ssh/config: Include {lab}/config"]
    for w in mine:
        lines += ["", f"Host {w.session} {w.name}", f"    HostName {w.address}", f"    Port {w.port}"]
        lines += [f"    User {w.user}"] if w.user else []
        if key:
            lines += [f"    IdentityFile ~/.ssh/{lab}/{key}", "    IdentitiesOnly yes"]
        if w.host_key:
            # The key has one name whatever the address, and the client never asks.
            lines += [f"    HostKeyAlias {w.name}", f"    UserKnownHostsFile ~/.ssh/{lab}/known_hosts"]
            lines += ["    StrictHostKeyChecking yes", "    CheckHostIP no"]
    keys = {w.name: w.host_key for w in mine if w.host_key}
    trusted = known_hosts((([name], key) for name, key in keys.items()), f"Host keys of the lab {lab}.")
    return {"config": "\n".join([*lines, ""]), "known_hosts": trusted}
