"""What in a Linux guest's file system belongs to this guest alone: not to be in an image for others."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple

if TYPE_CHECKING:
    from typing import Literal

    How = Literal["delete", "empty", "contents"]

# Stands for each account's home folder.
HOME = "~"
# Programs that configure a system by first-boot data, each with what disables it.
FIRST_BOOT = {
    "cloud-init": (("/usr/bin", "cloud-init"), ("/etc/cloud", "cloud-init.disabled")),
    "tiny-cloud": (("/usr/lib", "tiny-cloud"), ("", "")),
    "tiny-cloud in /lib": (("/lib", "tiny-cloud"), ("", "")),
}
NO_FIRST_BOOT = "its system reads no first-boot data, and a guest from the image would get no new ones"


class Row(NamedTuple):
    """One kind of thing: its words; the folder and the names in it (with * as in a shell); how it is cleaned: the file
    is deleted, or emptied, or everything in the folder is deleted. `access` is true for what admits somebody: it is
    cleaned only if a first boot creates it anew."""

    words: str
    folder: str
    names: tuple[str, ...]
    how: How = "delete"
    access: bool = False


ROWS = (
    Row("SSH host keys", "/etc/ssh", ("ssh_host_*_key", "ssh_host_*_key.pub"), access=True),
    Row("keys that open accounts", f"{HOME}/.ssh", ("authorized_keys", "authorized_keys2"), access=True),
    Row("accounts' own SSH keys", f"{HOME}/.ssh", ("id_*",)),
    Row("command history", HOME, (".*_history", ".lesshst", ".viminfo")),
    # machine-id(5): an empty file gets a new identity at the next start.
    Row("machine identity", "/etc", ("machine-id",), "empty"),
    Row("machine identity", "/var/lib/dbus", ("machine-id",)),
    Row("random seeds", "/var/lib/systemd", ("random-seed", "credential.secret")),
    Row("random seeds", "/var/lib/seedrng", ("*",)),
    Row("random seeds", "/var/lib/urandom", ("random-seed",)),
    Row("DHCP leases and identifiers", "/var/lib/dhcp", ("*",)),
    Row("DHCP leases and identifiers", "/var/lib/dhcpcd", ("*",)),
    Row("DHCP leases and identifiers", "/var/lib/NetworkManager", ("*.lease", "internal-*", "secret_key")),
    Row("names of adapters", "/etc/udev/rules.d", ("70-persistent-net.rules",)),
    *(
        Row("first-boot records", f"/var/lib/cloud/{folder}", (), "contents")
        for folder in ("instances", "data", "sem", "handlers", "scripts/per-instance")
    ),
    Row("first-boot records", "/var/lib/cloud", ("instance", ".bootstrap-complete")),
    Row("records of the lab", "/var/lib/dacha-setup", (), "contents"),
    Row("passwords for shares", "/etc", ("dacha-shares",)),
    Row("logs", "/var/log/journal", (), "contents"),
    Row("logs", "/var/log", ("*",), "empty"),
    Row("logs", "/var/log/apt", ("*",), "empty"),
)


def homes(passwd: str) -> list[str]:
    """The home folders of root and of people's accounts, from /etc/passwd (passwd(5))."""
    rows = [line.split(":") for line in passwd.splitlines()]
    found = [r[5] for r in rows if len(r) == 7 and r[2].isdigit() and (r[2] == "0" or 1000 <= int(r[2]) < 60000)]
    return list(dict.fromkeys(home.rstrip("/") for home in found if home.startswith("/") and home.rstrip("/")))


def locked(shadow: str) -> tuple[str, list[str]]:
    """/etc/shadow (shadow(5)) with every password locked, and the accounts that had one."""
    lines, had = [], []
    for line in shadow.split("\n"):
        name, colon, rest = line.partition(":")
        password, second, further = rest.partition(":")
        if colon and password and password[0] not in "!*":
            had.append(name)
            password = "!"
        elif colon and "$" in password:
            password = "!"  # a locked password is still readable behind its mark
        lines.append(f"{name}{colon}{password}{second}{further}")
    return "\n".join(lines), had


def mounts(fstab: str) -> dict[str, str]:
    """Where file systems are mounted, by their first field in /etc/fstab (fstab(5)), and swap files."""
    rows = [line.split() for line in fstab.splitlines() if not line.lstrip().startswith("#")]
    return {r[0].replace('"', ""): "swap" if r[2] == "swap" else r[1] for r in rows if len(r) >= 3}
