"""Users for processes that root starts: one for each guest and helper, from a range that no other user has.

Such a user has no name, no home folder and no files except those that Dacha gives it. One register for the whole host
records the owner of each number; a number is assigned again only when its owner no longer exists.
"""

from __future__ import annotations

import grp
import json
import os
import pwd
from collections.abc import Iterator
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.core.units import whole_number
from dacha.host import folders
from dacha.host.files import locked, replace_file
from dacha.host.records import parse

# Above the ranges that systems assign to people, containers and services (login.defs(5), subuid(5), and systemd's table
# of users and groups), below 2^31. DACHA_USERS=FIRST-LAST sets another range.
FIRST, LAST = 1_990_000_000, 1_990_009_999
WAIT_S = 10.0


class Account(NamedTuple):
    """A user without privileges; `groups` are its supplementary groups."""

    uid: int
    gid: int
    groups: tuple[int, ...] = ()


def account_for(owner: Path, *, groups: tuple[int, ...] = ()) -> Account | None:
    """The user of the guest or helper with the folder (or file) `owner`, always the same one; None if this process has
    no privileges, or cannot change its user (in a user namespace with a single one). Raises HostError if the range is
    used up."""
    if not _may_become():
        return None
    register = folders.shared() / "users.json"
    with locked(folders.shared() / "users.lock", "assigning a user", WAIT_S):
        known = _read(register)
        key = str(owner)
        if key not in known:
            known = {name: uid for name, uid in known.items() if Path(name).exists() or uid in _running()}
            known[key] = _free(set(known.values()))
            replace_file(register, json.dumps(known, indent=1), 0o600)
    return Account(known[key], known[key], groups)


def owner_moved(before: Path, after: Path) -> None:
    """Record that the folder `before`, with its contents, was moved to `after`: its users stay the same. Raises
    HostError."""
    if not _may_become():
        return
    register = folders.shared() / "users.json"
    with locked(folders.shared() / "users.lock", "assigning a user", WAIT_S):
        known = _read(register)
        moved = {
            str(after / Path(name).relative_to(before)) if Path(name).is_relative_to(before) else name: uid
            for name, uid in known.items()
        }
        if moved != known:
            replace_file(register, json.dumps(moved, indent=1), 0o600)


def gone() -> list[str]:
    """Registered folders that were deleted, and whose user has no process."""
    return [] if not _may_become() else _gone(_read(folders.shared_folder() / "users.json"))


def _gone(known: dict[str, int]) -> list[str]:
    running = _running()
    return sorted(name for name, uid in known.items() if not Path(name).exists() and uid not in running)


def forget_gone() -> None:
    """Remove those from the register. Raises BusyError, HostError."""
    if not _may_become():
        return
    register = folders.shared() / "users.json"
    with locked(folders.shared() / "users.lock", "assigning a user", WAIT_S):
        known = _read(register)
        if names := _gone(known):
            kept = {name: uid for name, uid in known.items() if name not in names}
            replace_file(register, json.dumps(kept, indent=1), 0o600)


def helper() -> Account | None:
    """The user of programs that get single files briefly, such as the one that creates disks."""
    return account_for(folders.shared())


def _read(register: Path) -> dict[str, int]:
    try:
        return {str(name): int(uid) for name, uid in parse(register.read_text()).items()}
    except FileNotFoundError:
        return {}
    except (OSError, ValueError, AttributeError, TypeError) as e:
        raise HostError(
            f"the register of users {register} cannot be read", why=str(e), remedy="stop all guests, and remove it"
        ) from e


def users() -> tuple[int, int]:
    """The first and last user of the range. Raises HostError if DACHA_USERS is not a range."""
    named = os.environ.get("DACHA_USERS")
    if not named:
        return FIRST, LAST
    first, last = (whole_number(text) for text in named.partition("-")[::2])
    if first is None or last is None or not 1000 <= first <= last < 1 << 31:
        raise HostError(f"DACHA_USERS is not a range: {named}", remedy="write two numbers from 1000 on: 70000-79999")
    return first, last


def _free(taken: set[int]) -> int:
    first, last = users()
    if not all(_mapped(n, kind) for n in (first, last) for kind in ("uid", "gid")):
        raise HostError(
            f"guests cannot have users of their own: {first}-{last} are not mapped in this user namespace",
            remedy="use a range that is mapped: DACHA_USERS=FIRST-LAST (see /proc/self/uid_map)",
        )
    found = next((n for n in range(first, last + 1) if n not in taken and not _named(n) and n not in _running()), None)
    if found is None:
        raise HostError(
            f"no user ID is free for a guest: all of {first}-{last} are in use",
            remedy="use a wider range: DACHA_USERS=FIRST-LAST",
        )
    return found


def _named(number: int) -> bool:
    """True if a user on this host has this number."""
    try:
        pwd.getpwuid(number)
        return True
    except KeyError:
        pass
    try:
        grp.getgrgid(number)
        return True
    except KeyError:
        return False


def _running() -> set[int]:
    """The users of all processes."""
    found = set()
    for process in Path("/proc").glob("[0-9]*"):
        try:
            found.add(process.stat().st_uid)
        except OSError:
            continue
    return found


def _may_become() -> bool:
    """True for root, except root of a user namespace without other users (user_namespaces(7))."""
    return os.geteuid() == 0 and any(count > 1 for _, count in _map("uid"))


def _map(kind: str) -> Iterator[tuple[int, int]]:
    for line in Path(f"/proc/self/{kind}_map").read_text().splitlines():
        first, _, count = (int(x) for x in line.split())
        yield first, count


def _mapped(number: int, kind: str) -> bool:
    return any(first <= number < first + count for first, count in _map(kind))


def kvm() -> tuple[int, ...]:
    """The group that may use hardware virtualization."""
    try:
        gid = Path("/dev/kvm").stat().st_gid
    except OSError:
        return ()
    return (gid,) if gid else ()


def become(account: Account, *, low_ports: bool) -> list[str]:
    """The prefix that makes a command run as that user, without any privilege of root except, on request, ports below
    1024 (setpriv(1), capabilities(7))."""
    capabilities = "-all,+net_bind_service" if low_ports else "-all"
    groups = f"--groups={','.join(map(str, account.groups))}" if account.groups else "--clear-groups"
    return [
        "setpriv", f"--reuid={account.uid}", f"--regid={account.gid}", groups, f"--inh-caps={capabilities}",
        f"--ambient-caps={capabilities}", f"--bounding-set={capabilities}", "--no-new-privs", "--",
    ]  # fmt: skip


# The capabilities of the caretaker's root part: links, rules and packet sockets; changing the user of what it starts,
# and access to their files; namespaces for file servers (setfcap: to be root in one). It has no others.
CARETAKER = (
    "chown", "dac_override", "fowner", "kill", "setgid", "setuid", "setpcap", "net_bind_service", "net_admin",
    "net_raw", "mknod", "setfcap",
)  # fmt: skip


def with_few_powers(command: list[str]) -> list[str]:
    """The command for the caretaker's root part; unchanged for an ordinary user."""
    if not _may_become():
        return command
    return ["setpriv", f"--bounding-set=-all,{','.join(f'+{c}' for c in CARETAKER)}", "--inh-caps=-all", "--", *command]
