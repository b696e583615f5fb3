"""Move this host's addresses and routes from an adapter to a bridge over it, and back."""

from __future__ import annotations

from dacha.host.network import iproute
from dacha.host.network.link import state as link_state
from dacha.host.network.link.state import LinkState


def make_bridge(bridge: str, alias: str, before: LinkState) -> None:
    """Create a bridge over the recorded adapter. The bridge gets the adapter's hardware address, and all addresses,
    routes and settings that this host had there. Raises HostError; then `unmake_bridge` reverts what was done."""
    adapter = before.name
    hardware = iproute.links()[adapter].hardware_address
    iproute.batch([
        f"link add name {bridge} type bridge forward_delay 0",
        f"link set dev {bridge} alias {alias}",
        f"link set dev {bridge} address {hardware} mtu {before.mtu}",
    ])  # fmt: skip
    link_state.give_settings(before, bridge)
    iproute.batch([f"link set dev {bridge} up", f"link set dev {adapter} master {bridge}"])
    link_state.clear(before)
    link_state.lay(before, bridge)


def unmake_bridge(bridge: str, adapter: str, before: LinkState | None, *, as_noted: bool) -> None:
    """Remove the bridge, if it exists, and give the adapter the bridge's present configuration; or the one that was
    recorded `before` (if any), on request (`as_noted`), or if the bridge has no address any more. Raises HostError."""
    there = iproute.links()
    now = link_state.read(bridge) if bridge in there else None
    given = before if before and (as_noted or not (now and now.addresses())) else now
    # A port of another program's bridge is left alone.
    ours = adapter in there and there[adapter].master in (None, bridge)
    if ours:
        lines = [f"link set dev {adapter} nomaster"] if there[adapter].master else []
        if before and as_noted and link_state.mtu(adapter) != before.mtu:
            lines.append(f"link set dev {adapter} mtu {before.mtu}")
        iproute.batch(lines)
    for state in (before, now):
        if state:
            link_state.forget_rules(state, bridge)
    if now:
        link_state.clear(now)
    try:
        if ours and given:
            link_state.lay(given, adapter)
    finally:
        iproute.batch([f"link delete {bridge}"] if now else [])
