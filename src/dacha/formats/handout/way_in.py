"""One way into one guest, as every client's file is made from it."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.named import NamedTuple
from dacha.formats.openssh import fingerprint

# Names of devices, which Windows gives no file.
DEVICES = frozenset({"con", "prn", "aux", "nul", *(f"{d}{n}" for d in ("com", "lpt") for n in range(10))})


def apart(ways: Iterable[WayIn]) -> list[WayIn]:
    """The ways, each called like no other: guest gauge's door rdp and a guest gauge-rdp are not one session."""
    found: list[WayIn] = []
    taken: set[str] = set()
    for way in ways:
        names = (way.session, f"{way.guest}-{way.door}", *(f"{way.guest}-{way.door}-{n}" for n in range(2, 100)))
        label = next(n for n in names if n not in taken)
        taken.add(label)
        found.append(way if label == way.session else way._replace(label=label))
    return found


class WayIn(NamedTuple):
    """A service of a guest, where somebody enters it from their place: `name` is the guest's name in the lab's domain,
    `user` who logs in ("" for nobody named), `host_key` its SSH host key as a public line ("" where none is known)."""

    guest: str
    door: str
    service: str
    address: str
    port: int
    name: str
    user: str = ""
    host_key: str = ""
    label: str = ""

    @property
    def session(self) -> str:
        """What it is called in a client: the guest's name, with the door's unless that is its ssh door; `label` where
        that is another way's name."""
        return self.label or (self.guest if self.door == "ssh" else f"{self.guest}-{self.door}")

    @property
    def file_name(self) -> str:
        """The same, as a name that a file may have on every system."""
        name = self.session.removesuffix("-rdp")
        return f"guest-{name}" if name in DEVICES else name

    @property
    def fingerprint(self) -> str:
        """The host key's, as clients show it at the first contact; "" where no key is known."""
        return fingerprint(self.host_key)


class Shut(NamedTuple):
    """A service that cannot be entered from that place: why, and what would open it."""

    guest: str
    door: str
    service: str
    why: str
    remedy: str
