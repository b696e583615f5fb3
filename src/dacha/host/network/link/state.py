"""The whole configuration of one of this host's links, recorded before it is changed, and restored to it or to a link
in its place: addresses, routes of every table, permanent neighbours, policy rules that name it, its MTU, and its
settings under /proc/sys/net.

Restoring adds what is missing: it may be interrupted anywhere, and repeated.
"""

from __future__ import annotations

import errno
import os
import socket
import time
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError, PeerError
from dacha.core.named import NamedTuple
from dacha.wire.link import rtnetlink
from dacha.wire.link.netlink import DONE, ERROR, messages
from dacha.wire.link.rtnetlink import INET, INET6, Kind, Part

_DATAGRAM, _WAIT_S = 1 << 16, 5.0
_SETTINGS = Path("/proc/sys/net")
_SIOCGIFMTU = 0x8921
# Errors that mean "already so" or "does not exist": no failure.
_THERE, _GONE = (errno.EEXIST,), (errno.ESRCH, errno.ENOENT, errno.EADDRNOTAVAIL, errno.ENODEV)


class LinkState(NamedTuple):
    """The state of a link: `at` is when it was recorded (Unix seconds), `prefixes` are the routes that the kernel
    created with its addresses, `settings` are values by their path under /proc/sys/net, with * for the link."""

    name: str
    at: float
    mtu: int
    parts: tuple[Part, ...]
    prefixes: tuple[Part, ...]
    settings: dict[str, str]

    def record(self) -> dict[str, Any]:
        """The state as a record."""
        kept = {which: [[p.kind, p.body.hex()] for p in getattr(self, which)] for which in ("parts", "prefixes")}
        return self._asdict() | kept

    @classmethod
    def from_record(cls, told: dict[str, Any]) -> LinkState:
        """The recorded state. Raises KeyError, TypeError or ValueError for anything else."""
        parts, prefixes = (
            tuple(Part(Kind(kind), bytes.fromhex(body)) for kind, body in told[which])
            for which in ("parts", "prefixes")
        )
        settings = {str(k): str(v) for k, v in told["settings"].items()}
        return cls(str(told["name"]), float(told["at"]), int(told["mtu"]), parts, prefixes, settings)

    def addresses(self) -> list[Part]:
        """Its addresses, except link-local ones."""
        return [p for p in self.parts if p.kind is Kind.ADDRESS and not rtnetlink.own_of_link(p)]


def read(name: str) -> LinkState:
    """The present state of a link. Raises HostError."""
    with _Kernel() as kernel:
        index = kernel.index(name)
        everything = list(kernel.everything())
        return LinkState(
            name=name,
            at=time.time(),
            mtu=mtu(name),
            parts=tuple(p for p in everything if rtnetlink.belongs(p, index, name)),
            prefixes=tuple(p for p in everything if rtnetlink.prefix_route(p, index)),
            settings=_settings(name),
        )


def mtu(name: str) -> int:
    """The MTU of a link in bytes (netdevice(7)). Raises HostError."""
    import fcntl
    import struct

    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        try:
            told = fcntl.ioctl(s, _SIOCGIFMTU, struct.pack("16si12x", name.encode(), 0))
        except OSError as e:
            raise HostError(f"cannot read the MTU of {name}", why=e.strerror or str(e)) from e
    return int(struct.unpack_from("i", told, 16)[0])


def clear(state: LinkState) -> None:
    """Remove the recorded configuration from the link, except what belongs to the link itself and policy rules that
    name it. Raises HostError."""
    with _Kernel() as kernel:
        kernel.index(state.name)
        for part in (*(p for p in state.parts if p.kind is Kind.ROUTE), *state.addresses()):
            kernel.say(rtnetlink.remove_request(part), (*_GONE, *_THERE))


def lay(state: LinkState, name: str) -> None:
    """Apply the recorded state to the same link, or to another one in its place. Failures are reported at the end,
    after everything else was applied. Raises HostError."""
    with _Kernel() as kernel:
        # A link that no longer exists had this index: no other has it.
        old, new = (_index_then(state), state.name), (kernel.index(name), name)
        age = max(0.0, time.time() - state.at)
        led = [rtnetlink.led_to(p, old, new, age) for p in state.parts]
        refused = kernel.addresses(new[0], [p for p in led if p.kind is Kind.ADDRESS])
        refused += kernel.add(p for p in led if p.kind in (Kind.NEIGHBOUR, Kind.RULE))
        refused += kernel.routes(rtnetlink.in_order(p for p in led if p.kind is Kind.ROUTE))
        kernel.prefixes(new[0], [rtnetlink.led_to(p, old, new, age) for p in state.prefixes])
    if refused:
        raise HostError(f"cannot give link {name} all settings of {state.name}", why="; ".join(sorted(set(refused))))


def forget_rules(state: LinkState, name: str) -> None:
    """Remove the policy rules of the link that name another one, `name`, which took its place. Raises HostError."""
    with _Kernel() as kernel:
        for part in state.parts:
            if part.kind is Kind.RULE:
                led = rtnetlink.led_to(part, (0, state.name), (0, name), 0.0)
                kernel.say(rtnetlink.remove_request(led), (*_GONE, *_THERE))


def give_settings(state: LinkState, name: str) -> None:
    """Apply the recorded settings to a link that is not up yet; those that the kernel refuses are left as they are."""
    for path, value in sorted(state.settings.items()):
        place = _SETTINGS / path.replace("*", name)
        try:
            if place.read_text().strip() != value:
                place.write_text(value + "\n")
        except OSError:
            continue


def _settings(name: str) -> dict[str, str]:
    found = {}
    for family in ("ipv4", "ipv6"):
        folder = _SETTINGS / family / "conf" / name
        for place in folder.iterdir() if folder.is_dir() else ():
            try:
                found[f"{family}/conf/*/{place.name}"] = place.read_text().strip()
            except OSError:  # an unset value, or one that only root can read
                continue
    return found


def _index_then(state: LinkState) -> int:
    """The index that the link had when it was recorded."""
    import struct

    for part in (*state.parts, *state.prefixes):
        if part.kind is Kind.ADDRESS:
            return int(struct.unpack_from("=I", part.body, 4)[0])
        if part.kind is Kind.NEIGHBOUR:
            return int(struct.unpack_from("=i", part.body, 4)[0])
    try:
        return socket.if_nametoindex(state.name)
    except OSError:
        return 0


class _Kernel:
    """A connection to rtnetlink."""

    def __init__(self) -> None:
        try:
            self._socket = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, socket.NETLINK_ROUTE)
            self._socket.settimeout(_WAIT_S)
            self._socket.bind((0, 0))
        except OSError as e:
            raise HostError("cannot open a netlink socket", why=e.strerror or str(e)) from e

    def __enter__(self) -> _Kernel:
        return self

    def __exit__(self, *_: object) -> None:
        self._socket.close()

    @staticmethod
    def index(name: str) -> int:
        """A link's index. Raises HostError."""
        try:
            return socket.if_nametoindex(name)
        except OSError as e:
            raise HostError(f"link {name} does not exist", why=e.strerror or str(e)) from e

    def everything(self) -> Iterator[Part]:
        """All addresses, routes, neighbours and policy rules of this host. Raises HostError."""
        for kind in Kind:
            for family in (INET, INET6):
                yield from self._listed(kind, family)
                if kind is Kind.NEIGHBOUR:
                    yield from self._listed(kind, family, proxies=True)

    def _listed(self, kind: Kind, family: int, *, proxies: bool = False) -> Iterator[Part]:
        try:
            self._socket.send(rtnetlink.list_request(kind, family, proxies=proxies))
            while True:
                for message, body in messages(self._socket.recv(_DATAGRAM)):
                    if message in (DONE, ERROR):
                        return
                    if message == kind and body[0] == family:
                        yield Part(kind, body)
        except (OSError, PeerError) as e:
            raise HostError("cannot read the addresses of this host's links", why=str(e)) from e

    def say(self, request: bytes, accepted: tuple[int, ...] = ()) -> str:
        """Send a request; returns why the kernel refused it, "" if it did not, or for an `accepted` errno. Raises
        HostError without privileges, or without an answer."""
        try:
            self._socket.send(request)
            for _, body in messages(self._socket.recv(_DATAGRAM)):
                number = rtnetlink.error_of(body)
                if number in (errno.EPERM, errno.EACCES):
                    raise HostError(
                        "the kernel refused a change of its links",
                        remedy="run it as root: creating networks requires it",
                    )
                if number and number not in accepted:
                    return os.strerror(number)
        except (OSError, PeerError) as e:
            raise HostError("cannot open a netlink socket", why=str(e)) from e
        return ""

    def addresses(self, index: int, wanted: list[Part]) -> list[str]:
        """Give a link these addresses, in this order, and no others; returns what was refused, and why."""
        there = [p for p in self._of(index, Kind.ADDRESS) if not rtnetlink.own_of_link(p)]
        if [rtnetlink.same_address(p) for p in there] != [
            rtnetlink.same_address(p) for p in wanted if not rtnetlink.own_of_link(p)
        ]:
            # Their order determines which address is the primary one of its subnet.
            for part in there:
                self.say(rtnetlink.remove_request(part), (*_GONE, *_THERE))
        refused = []
        # The kernel lists the newest IPv6 address first.
        for part in [*(p for p in wanted if p.family == INET), *(p for p in reversed(wanted) if p.family == INET6)]:
            if part.family == INET6:
                # It was this host's a moment ago: no duplicate detection. Its properties follow.
                self.say(rtnetlink.add_request(rtnetlink.undoubted(part)))
            refused += [f"address: {why}" for why in [self.say(rtnetlink.add_request(part), _THERE)] if why]
        return refused

    def add(self, parts: Iterable[Part]) -> list[str]:
        """Add these; returns what was refused, and why."""
        told = ((p, self.say(rtnetlink.add_request(p), _THERE)) for p in parts)
        return [f"{p.kind.name.lower()}: {why}" for p, why in told if why]

    def routes(self, parts: list[Part]) -> list[str]:
        """Add routes, some of which depend on others: repeated while it succeeds for one more. A route whose gateway is
        in no subnet any more (its address was removed) is created on-link."""
        while parts:
            left = [p for p in parts if self.say(rtnetlink.add_request(p), _THERE)]
            if len(left) == len(parts):
                break
            parts = left
        return self.add(rtnetlink.on_link(p) for p in parts)

    def prefixes(self, index: int, wanted: list[Part]) -> None:
        """Restore the prefix routes as they were: one may have been removed, or had another metric."""
        keys = {rtnetlink.route_key(p) for p in wanted}
        there = [p for family in (INET, INET6) for p in self._listed(Kind.ROUTE, family)]
        there = [p for p in there if rtnetlink.prefix_route(p, index)]
        for part in there:
            if rtnetlink.route_key(part) not in keys:
                self.say(rtnetlink.remove_request(part), (*_GONE, *_THERE))
        made = {rtnetlink.route_key(p) for p in there}
        self.add(p for p in wanted if rtnetlink.route_key(p) not in made)

    def _of(self, index: int, kind: Kind) -> list[Part]:
        found = [p for family in (INET, INET6) for p in self._listed(kind, family)]
        return [p for p in found if rtnetlink.belongs(p, index, "")]
