"""One way into one guest, the source of every client's file."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.lab.client import Client
from dacha.core.named import NamedTuple
from dacha.formats.openssh import fingerprint

# Device names, which Windows does not allow as file names.
DEVICES = frozenset({"con", "prn", "aux", "nul", *(f"{d}{n}" for d in ("com", "lpt") for n in range(10))})


def apart(ways: Iterable[WayIn]) -> list[WayIn]:
    """The ways with unique session names: guest gauge's door rdp and the ssh door of a guest gauge-rdp would
    collide."""
    found: list[WayIn] = []
    taken: set[str] = set()
    for way in ways:
        names = (way.session, f"{way.guest}-{way.door}", *(f"{way.guest}-{way.door}-{n}" for n in range(2, 100)))
        label = next(n for n in names if n not in taken)
        taken.add(label)
        found.append(way if label == way.session else way._replace(label=label))
    return found


class WayIn(NamedTuple):
    """A service of a guest, as seen from the recipient's place: `name` is the guest's name in the lab's domain, `user`
    the login user ("" for none), `host_key` its SSH host key as a public line ("" if unknown), `client` what its
    client shows."""

    guest: str
    door: str
    service: str
    address: str
    port: int
    name: str
    user: str = ""
    host_key: str = ""
    label: str = ""
    client: Client = Client()

    @property
    def session(self) -> str:
        """Its name in a client: the guest's name, with the door's name unless it is the ssh door; `label` if that is
        another way's name."""
        return self.label or (self.guest if self.door == "ssh" else f"{self.guest}-{self.door}")

    @property
    def file_name(self) -> str:
        """The same as a file name that is valid on every system."""
        name = self.session.removesuffix("-rdp")
        return f"guest-{name}" if name in DEVICES else name

    @property
    def account(self) -> str:
        """The login user as Windows accepts it, with the domain of the account if it has one."""
        return f"{self.client.domain}\\{self.user}" if self.client.domain and self.user else self.user

    @property
    def fingerprint(self) -> str:
        """The host key's fingerprint, as clients show it at the first connection; "" if no key is known."""
        return fingerprint(self.host_key)


class Shut(NamedTuple):
    """A service that is unreachable from that place: the reason, and how to open it."""

    guest: str
    door: str
    service: str
    why: str
    remedy: str
