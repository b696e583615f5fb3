"""What of a guest's reports has a form of its own: its listening sockets, its services, its links."""

from __future__ import annotations

from dacha.core.named import NamedTuple
from dacha.core.trace.seen.questions import UNITS

# The programs that serve a service.
SERVERS = {
    "ssh": ("sshd", "dropbear"), "rdp": ("xrdp", "gnome-remote-de", "krdpserver", "freerdp-shadow-"),
    "vnc": ("Xvnc", "x11vnc", "Xtigervnc", "wayvnc", "krfb", "vino-server"),
}  # fmt: skip


class Listener(NamedTuple):
    """A listening socket: address, port, program ("" if not reported), process ID and state (proc(5): "T" is
    stopped); of one that systemd itself has, the service that it `starts` for a connection."""

    address: str
    port: int
    program: str
    pid: int = 0
    state: str = ""
    starts: str = ""

    @property
    def who(self) -> str:
        """Who has the socket, as it is shown; "" if not reported."""
        return f"systemd, for {self.starts}," if self.starts else self.program

    def is_for(self, service: str) -> bool:
        """False if its program is known to be no server for the service."""
        if self.starts:
            return service != "ssh" or self.starts.partition("@")[0] in UNITS["ssh"]
        return self.program in SERVERS.get(service, (self.program,))

    @property
    def on_loopback(self) -> bool:
        return self.address.startswith("127.") or self.address == "::1"

    @property
    def by_ipv6_alone(self) -> bool:
        """True for one without IPv4 (the wildcard of both is shown as *)."""
        return ":" in self.address


class Unit(NamedTuple):
    """A service: its name, its state ("active", "inactive", "failed", "masked"), its last log message."""

    name: str
    state: str
    said: str = ""


class Process(NamedTuple):
    """A process of the user: its number, its parent's, its command line."""

    pid: int
    parent: int
    command: str


class Link(NamedTuple):
    """A network link: its name, whether it is up, its hardware address, its IPv4 addresses ("ADDRESS/PREFIX"),
    its MTU (bytes; 0 if not reported), whether it uses ARP."""

    name: str
    up: bool
    hardware: str = ""
    addresses: tuple[str, ...] = ()
    mtu: int = 0
    by_arp: bool = True
