"""Commands for ip(8) that create a lab's links, in the format of its -batch mode."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.network.links import GROUP, BridgeLink, DirectLink, TapLink, VlanLink, tap_group


def commands(link: BridgeLink | VlanLink | TapLink | DirectLink, there: bool) -> Iterable[str]:
    """The commands that create or repair a link."""
    if isinstance(link, BridgeLink):
        if not there:
            # A guest cannot become the multicast querier (RFC 2236, RFC 3810).
            yield f"link add name {link.name} type bridge forward_delay 0 mcast_snooping 0"
            yield f"link set dev {link.name} alias {link.alias}"
        # Its link-local address is derived from this one, so that the rules know it and no guest can take it.
        mode = " addrgenmode eui64" if any(":" in a for a in link.addresses) else ""
        yield f"link set dev {link.name} address {link.hardware_address}{mode} group {GROUP}"
        if there:
            yield f"address flush dev {link.name} scope global"
        for address in link.addresses:
            # No other machine can have an address here before this host: no time is lost by detection (RFC 4862).
            yield f"address replace {address} dev {link.name}{' nodad' if ':' in address else ''}"
        yield f"link set dev {link.name} up"
        return
    if isinstance(link, VlanLink):
        if there:
            yield f"link delete {link.name}"
        yield f"link add link {link.parent} name {link.name} type vlan id {link.number}"
        yield f"link set dev {link.name} alias {link.alias} addrgenmode none"
        yield f"link set dev {link.name} up"
        return
    if isinstance(link, DirectLink):
        if there:
            yield f"link delete {link.name}"
        yield f"link add link {link.parent} name {link.name} address {link.hardware_address} type macvtap mode bridge"
        yield f"link set dev {link.name} alias {link.alias} addrgenmode none"
        yield f"link set dev {link.name} up"
        return
    if not there:
        yield f"tuntap add dev {link.name} mode tap vnet_hdr"
        yield f"link set dev {link.name} alias {link.alias}"
    group = tap_group(link.alias.split(":")[1])
    yield f"link set dev {link.name} address {link.hardware_address} addrgenmode none group {group}"
    yield f"link set dev {link.name} master {link.bridge}"
    yield f"link set dev {link.name} up"
