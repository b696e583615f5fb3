"""Everything that this host has on one of its links, noted before it is changed, and given back to it or to another
link in its place: addresses, routes of every table, permanent neighbours, policy rules that name it, its MTU, and its
settings under /proc/sys/net.

It is given back by adding what is not there: so it may be interrupted anywhere, and done again.
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
# What this host is already, and what is not there: no reason to fail.
_THERE, _GONE = (errno.EEXIST,), (errno.ESRCH, errno.ENOENT, errno.EADDRNOTAVAIL, errno.ENODEV)


class LinkState(NamedTuple):
    """What a link has: `at` is when it was noted (Unix seconds), `prefixes` are the routes that the kernel made with
    its addresses, `settings` are values by their path under /proc/sys/net, with * for the link."""

    name: str
    at: float
    mtu: int
    parts: tuple[Part, ...]
    prefixes: tuple[Part, ...]
    settings: dict[str, str]

    def record(self) -> dict[str, Any]:
        """The state as a record keeps it."""
        kept = {which: [[p.kind, p.body.hex()] for p in getattr(self, which)] for which in ("parts", "prefixes")}
        return self._asdict() | kept

    @classmethod
    def from_record(cls, told: dict[str, Any]) -> LinkState:
        """The state that was kept. Raises KeyError, TypeError or ValueError for anything else."""
        parts, prefixes = (
            tuple(Part(Kind(kind), bytes.fromhex(body)) for kind, body in told[which])
            for which in ("parts", "prefixes")
        )
        settings = {str(k): str(v) for k, v in told["settings"].items()}
        return cls(str(told["name"]), float(told["at"]), int(told["mtu"]), parts, prefixes, settings)

    def addresses(self) -> list[Part]:
        """Its addresses, without those that every link has by itself."""
        return [p for p in self.parts if p.kind is Kind.ADDRESS and not rtnetlink.own_of_link(p)]


def read(name: str) -> LinkState:
    """What a link has now. Raises HostError."""
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
    """The longest packet that a link takes, in bytes (netdevice(7)). Raises HostError."""
    import fcntl
    import struct

    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        try:
            told = fcntl.ioctl(s, _SIOCGIFMTU, struct.pack("16si12x", name.encode(), 0))
        except OSError as e:
            raise HostError(f"cannot read the MTU of {name}", why=e.strerror or str(e)) from e
    return int(struct.unpack_from("i", told, 16)[0])


def clear(state: LinkState) -> None:
    """Take from the link what was noted of it, but what is its own and the rules that name it. Raises HostError."""
    with _Kernel() as kernel:
        kernel.index(state.name)
        for part in (*(p for p in state.parts if p.kind is Kind.ROUTE), *state.addresses()):
            kernel.say(rtnetlink.remove_request(part), (*_GONE, *_THERE))


def lay(state: LinkState, name: str) -> None:
    """Give what was noted to a link: to the same, or to another that takes its place. What cannot be given is named at
    the end, after all else was. Raises HostError."""
    with _Kernel() as kernel:
        # A link that is gone by now had this number: none has it.
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
    """Give a link that is not up yet the settings that were noted; the kernel refuses some, which stay as they are."""
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
            except OSError:  # a value that is not set, or that root alone may read
                continue
    return found


def _index_then(state: LinkState) -> int:
    """The number that the link had when it was noted."""
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
    """A conversation with rtnetlink."""

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
        """A link's number. Raises HostError."""
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
        """Carry out a request; why the kernel refused it, "" where it did not or for an `accepted` errno. Raises
        HostError without privileges, or where there is no answer."""
        try:
            self._socket.send(request)
            for _, body in messages(self._socket.recv(_DATAGRAM)):
                number = rtnetlink.error_of(body)
                if number in (errno.EPERM, errno.EACCES):
                    raise HostError(
                        "the kernel refused a change of its links", remedy="creating networks requires root"
                    )
                if number and number not in accepted:
                    return os.strerror(number)
        except (OSError, PeerError) as e:
            raise HostError("cannot open a netlink socket", why=str(e)) from e
        return ""

    def addresses(self, index: int, wanted: list[Part]) -> list[str]:
        """Let a link have these addresses, in this order, and no others; what was refused, and why."""
        there = [p for p in self._of(index, Kind.ADDRESS) if not rtnetlink.own_of_link(p)]
        if [rtnetlink.same_address(p) for p in there] != [
            rtnetlink.same_address(p) for p in wanted if not rtnetlink.own_of_link(p)
        ]:
            # Which address is its subnet's first is told by their order.
            for part in there:
                self.say(rtnetlink.remove_request(part), (*_GONE, *_THERE))
        refused = []
        # The kernel lists the newest address of IPv6 first.
        for part in [*(p for p in wanted if p.family == INET), *(p for p in reversed(wanted) if p.family == INET6)]:
            if part.family == INET6:
                # It was this host's a moment ago: nobody is asked whether it is free. What it is comes after that.
                self.say(rtnetlink.add_request(rtnetlink.undoubted(part)))
            refused += [f"address: {why}" for why in [self.say(rtnetlink.add_request(part), _THERE)] if why]
        return refused

    def add(self, parts: Iterable[Part]) -> list[str]:
        """Add these; what was refused, and why."""
        told = ((p, self.say(rtnetlink.add_request(p), _THERE)) for p in parts)
        return [f"{p.kind.name.lower()}: {why}" for p, why in told if why]

    def routes(self, parts: list[Part]) -> list[str]:
        """Add routes, some of which lead over others: again as long as one more can be made. One whose gateway is in no
        subnet by now (its address was removed after it was made) is made as it works: by its link."""
        while parts:
            left = [p for p in parts if self.say(rtnetlink.add_request(p), _THERE)]
            if len(left) == len(parts):
                break
            parts = left
        return self.add(rtnetlink.on_link(p) for p in parts)

    def prefixes(self, index: int, wanted: list[Part]) -> None:
        """Let the routes that the kernel makes with addresses be those that were there: somebody may have removed one,
        or given it another metric."""
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
