"""Find the protocol of the router: PCP, else NAT-PMP, else UPnP."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from ipaddress import IPv4Address

from dacha.core.errors import AnswerNo
from dacha.host.router.datagram import NatPmp, Pcp
from dacha.host.router.port_mapper import PortMapper


def named(name: str, router: str, source: str) -> PortMapper:
    """The protocol of that name."""
    from dacha.host.router.upnp import Upnp

    ways: dict[str, Callable[[str, str], PortMapper]] = {"pcp": Pcp, "nat-pmp": NatPmp, "upnp": Upnp}
    return ways[name](router, source)


def find(router: str, source: str, before: str = "") -> PortMapper:
    """The best protocol that this router supports; `before` is the former one. Raises AnswerNo with what was tried if
    it supports none."""
    ways = ["pcp", "nat-pmp", "upnp"]
    if IPv4Address(router).is_loopback:
        ways.remove("upnp")  # it is found by multicast, which loopback does not have
    tried = []

    def look(name: str) -> PortMapper | None:
        mapper = named(name, router, source)
        try:
            mapper.look()
        except AnswerNo as e:
            tried.append(f"{name}: {e.what}")
            return None
        return mapper

    if before in ways and (found := look(before)):
        return found
    with ThreadPoolExecutor(2) as pool:  # in parallel: a router without either takes two timeouts
        for found in list(pool.map(look, [n for n in ("pcp", "nat-pmp") if n != before])):
            if found:
                return found
    if "upnp" in ways and before != "upnp" and (found := look("upnp")):
        return found
    raise AnswerNo("it supports neither PCP, NAT-PMP nor UPnP", why="\n".join(tried))
