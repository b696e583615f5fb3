"""The data for an installer's answer file: the guest's first-boot facts, and values that only an installation needs."""

from __future__ import annotations

from collections.abc import Mapping

from dacha.core.apply.first_boot import FirstBoot, SetupFacts, SetupUser
from dacha.core.lab.families import family_of
from dacha.core.named import NamedTuple

# The first disk of a guest as its installer's kernel names it, by bus.
DISK_BY_BUS = {"virtio": "/dev/vda", "sata": "/dev/sda", "scsi": "/dev/sda", "nvme": "/dev/nvme0n1"}
NOTHING: SetupFacts = {
    "locale": None, "keyboard": None, "time_zone": None, "update": False, "automatic_updates": False, "packages": [],
    "services": [], "run": [], "files": [], "users": [],
}  # fmt: skip


class Answers(NamedTuple):
    """Everything that an answer file is generated from. `disk` is the target device, `bus` its bus; `passwords` maps
    users to hashes (crypt(5)), `plain` to passwords for the one family whose installer accepts no hash."""

    facts: FirstBoot
    disk: str
    bus: str
    firmware: str
    host_key_private: str
    passwords: Mapping[str, str]
    plain: Mapping[str, str]
    remote_desktop: bool = False
    # The password for the guest's shared folders by SMB.
    share_password: str = ""
    # Of Windows: the number of the edition on the medium, and its key.
    image: int = 1
    product_key: str | None = None
    # Whether it has a further medium, which may have drivers and the guest agent.
    further_medium: bool = False

    @property
    def setup(self) -> SetupFacts:
        return self.facts.get("setup", NOTHING)

    @property
    def packages(self) -> list[str]:
        """The packages to install: those of the setup, and those needed to mount its shares and to set its clock."""
        shared = any("server" in s for s in self.facts.get("shares", ()))
        family = family_of(self.facts["system"])
        helper = family.smb_helper if shared else ""
        clock = family.clock if self.setup.get("time_servers") else ""
        return list(dict.fromkeys([*self.setup["packages"], *(p for p in (helper, clock) if p)]))

    @property
    def packages_later(self) -> bool:
        """True if packages are installed at the end of the installation: the sources of some are known only then."""
        return bool(self.setup.get("sources"))

    @property
    def users(self) -> list[SetupUser]:
        """The accounts to create: the login user first, as an administrator, then those of the setup."""
        facts = self.facts
        first: list[SetupUser] = []
        if facts["user"]:
            first = [
                {
                    "name": facts["user"],
                    "keys": facts["keys"],
                    "groups": facts.get("groups", []),
                    "administrator": True,
                    "shell": None,
                }
            ]
        return [*first, *(u for u in self.setup["users"] if u["name"] != facts["user"])]

    @property
    def domain(self) -> str:
        return self.facts["full_name"].partition(".")[2]

    @property
    def proxy(self) -> str | None:
        """The proxy that packages are fetched through."""
        return self.setup.get("proxy")

    @property
    def mirror(self) -> str | None:
        """The package mirror; None for the installer's default."""
        return self.setup.get("mirror")
