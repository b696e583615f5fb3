"""The part of first-boot data with the setup of a guest's system: users, packages, files, services, commands."""

from __future__ import annotations

from typing import Any

from dacha.core.apply.first_boot import SetupFacts, SetupFile, SetupUser
from dacha.core.lab.families import enable_command, whole_setups
from dacha.formats.remote_desktop import remote_desktop
from dacha.formats.seed.sources import source_files

# Automatic updates of a family: packages, a file, services.
AUTOMATIC: dict[str, tuple[list[str], tuple[str, str] | None, list[str]]] = {
    "apt": (
        ["unattended-upgrades"],
        ("/etc/apt/apt.conf.d/20auto-upgrades",
         'APT::Periodic::Update-Package-Lists "1";\nAPT::Periodic::Unattended-Upgrade "1";\n'),
        [],
    ),
    "dnf": (["dnf-automatic"], None, ["dnf-automatic-install.timer"]),
}  # fmt: skip
# The package managers of families whose setup is known in every part.
MANAGERS = whole_setups()
KEYBOARD = 'XKBMODEL="pc105"\nXKBLAYOUT="{0}"\nXKBVARIANT=""\nXKBOPTIONS=""\nBACKSPACE="guess"\n'


def setup_data(setup: SetupFacts, system: str, login: str | None = None) -> dict[str, Any]:
    """The keys of user-data for a setup, in the order in which a guest applies them; `users` is always present. `login`
    is the login user."""
    packages, files, services = list(setup["packages"]), list(setup["files"]), list(setup["services"])
    written: list[dict[str, Any]] = [_file(f) for f in [*source_files(setup, MANAGERS.get(system, "")), *files]]
    if setup["automatic_updates"] and system in MANAGERS:
        more, file, timers = AUTOMATIC[MANAGERS[system]]
        packages += [p for p in more if p not in packages]
        services += timers
        if file:
            written.append({"path": file[0], "content": file[1], "permissions": "0644", "owner": "root:root"})
    desktop: list[str] = []
    if setup.get("remote_desktop") and system in MANAGERS:
        users = [login] if login else []
        made = remote_desktop(MANAGERS[system], dict.fromkeys([*users, *(u["name"] for u in setup["users"])]))
        packages += [p for p in made.packages if p not in packages]
        written += [{"path": p, "content": t, "permissions": mode, "owner": "root:root"} for p, t, mode in made.files]
        desktop = list(made.commands)
    data: dict[str, Any] = {"users": [_user(u) for u in setup["users"]]}
    if setup["locale"]:
        data["locale"] = setup["locale"]
    keyboard: list[str] = []
    if setup["keyboard"] and MANAGERS.get(system) == "apt":
        # The built-in module fails if the console tools are not installed, as in small images.
        content = KEYBOARD.format(setup["keyboard"])
        written.append(
            {"path": "/etc/default/keyboard", "content": content, "permissions": "0644", "owner": "root:root"}
        )
        keyboard = ["if command -v setupcon > /dev/null; then setupcon; fi"]
    elif setup["keyboard"]:
        data["keyboard"] = {"layout": setup["keyboard"]}
    if setup["time_zone"]:
        data["timezone"] = setup["time_zone"]
    if setup.get("time_servers"):
        data["ntp"] = {"enabled": True, "servers": setup["time_servers"], "pools": []}
    mirror = setup.get("mirror")
    if mirror and MANAGERS.get(system) == "apt":
        lines = [f"deb {mirror} $RELEASE{more} {mirror_parts(system)}" for more in ("", "-updates")]
        data["apt"] = {"sources_list": "\n".join([*lines, ""])}
    if packages or setup["update"]:
        data["package_update"] = True
    if setup["update"]:
        data["package_upgrade"] = True
    if packages:
        data["packages"] = packages
    if written:
        data["write_files"] = written
    commands = keyboard + desktop + [enable_command(system, s) for s in services] + setup["run"]
    if commands:
        data["runcmd"] = commands
    return data


def mirror_parts(system: str) -> str:
    """Only what every mirror has: a missing part would invalidate the whole list."""
    return "main restricted universe" if system == "ubuntu" else "main"


def _file(file: SetupFile) -> dict[str, Any]:
    found: dict[str, Any] = {
        "path": file["path"],
        "content": file["content"],
        "encoding": "b64",
        "permissions": file["mode"].zfill(4),
        "owner": f"{file['owner']}:{file['owner']}",
    }
    if file["owner"] != "root":
        found["defer"] = True  # its owner is created first
    return found


def _user(user: SetupUser) -> dict[str, Any]:
    found: dict[str, Any] = {"name": user["name"], "lock_passwd": True}
    if user["groups"]:
        found["groups"] = user["groups"]
    if user["administrator"]:
        found["sudo"] = "ALL=(ALL) NOPASSWD:ALL"
    if user["shell"]:
        found["shell"] = user["shell"]
    if user["keys"]:
        found["ssh_authorized_keys"] = user["keys"]
    return found
