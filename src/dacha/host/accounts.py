"""Who a guest's process runs as when root starts it."""

from __future__ import annotations

import os
import pwd
from pathlib import Path
from typing import NamedTuple

# An administrator may make a user of this name for guests; without one they have the user that owns nothing.
NAMES = ("dacha", "nobody")


class Account(NamedTuple):
    """A user without privileges; `groups` are further ones that its processes are in."""

    name: str
    uid: int
    gid: int
    groups: tuple[int, ...]


def unprivileged() -> Account | None:
    """The user whom guests run as; None when this process has no privileges itself, or cannot become another user."""
    if os.geteuid() != 0:
        return None
    for name in NAMES:
        try:
            found = pwd.getpwnam(name)
        except KeyError:
            continue
        if found.pw_uid and _mapped(found.pw_uid, "uid") and _mapped(found.pw_gid, "gid"):
            return Account(name, found.pw_uid, found.pw_gid, _kvm())
    return None


def _mapped(number: int, kind: str) -> bool:
    """True when this user namespace knows the id (user_namespaces(7)): in one of a single user, root is nobody else."""
    for line in Path(f"/proc/self/{kind}_map").read_text().splitlines():
        first, _, count = (int(x) for x in line.split())
        if first <= number < first + count:
            return True
    return False


def _kvm() -> tuple[int, ...]:
    """The group that may use hardware virtualization."""
    try:
        gid = Path("/dev/kvm").stat().st_gid
    except OSError:
        return ()
    return (gid,) if gid else ()


def become(account: Account, *, low_ports: bool) -> list[str]:
    """What goes before a command so that it runs as that user, with nothing that root has but, where asked for, ports
    under 1024 (setpriv(1), capabilities(7))."""
    capabilities = "-all,+net_bind_service" if low_ports else "-all"
    groups = f"--groups={','.join(map(str, account.groups))}" if account.groups else "--clear-groups"
    return [
        "setpriv", f"--reuid={account.uid}", f"--regid={account.gid}", groups, f"--inh-caps={capabilities}",
        f"--ambient-caps={capabilities}", f"--bounding-set={capabilities}", "--no-new-privs", "--",
    ]  # fmt: skip
