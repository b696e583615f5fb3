"""What an installer is told: the guest's first-boot facts, and the few things that only an installation asks."""

from __future__ import annotations

from collections.abc import Mapping

from dacha.core.apply.first_boot import FirstBoot, SetupFacts, SetupUser
from dacha.core.named import NamedTuple
from dacha.core.plan.smb import HELPERS

# The first disk of a guest as its installer's kernel names it, by bus.
DISK_BY_BUS = {"virtio": "/dev/vda", "sata": "/dev/sda", "scsi": "/dev/sda", "nvme": "/dev/nvme0n1"}
NOTHING: SetupFacts = {
    "locale": None, "keyboard": None, "time_zone": None, "update": False, "automatic_updates": False, "packages": [],
    "services": [], "run": [], "files": [], "users": [],
}  # fmt: skip


class Answers(NamedTuple):
    """Everything that an answer file is made from. `disk` is the device that is installed to, `bus` what it is on;
    `passwords` are hashes (crypt(5)) by user, `plain` passwords for the one family that takes no hash."""

    facts: FirstBoot
    disk: str
    bus: str
    firmware: str
    host_key_private: str
    passwords: Mapping[str, str]
    plain: Mapping[str, str]
    remote_desktop: bool = False
    # What opens its shared folders by SMB.
    share_password: str = ""

    @property
    def setup(self) -> SetupFacts:
        return self.facts.get("setup", NOTHING)

    @property
    def packages(self) -> list[str]:
        """What is to be installed: the setup's, and what its shares are mounted by."""
        named = self.setup["packages"]
        helper = HELPERS.get(self.facts["system"]) if any("server" in s for s in self.facts.get("shares", ())) else None
        return [*named, *([helper] if helper and helper not in named else [])]

    @property
    def users(self) -> list[SetupUser]:
        """Who gets an account: the login first, who is an administrator, then the setup's."""
        facts = self.facts
        first: list[SetupUser] = []
        if facts["user"]:
            first = [{"name": facts["user"], "keys": facts["keys"], "groups": [], "administrator": True, "shell": None}]
        return [*first, *(u for u in self.setup["users"] if u["name"] != facts["user"])]

    @property
    def domain(self) -> str:
        return self.facts["full_name"].partition(".")[2]

    @property
    def mirror(self) -> str | None:
        """Where packages come from; None for the installer's own place."""
        return self.setup.get("mirror")
