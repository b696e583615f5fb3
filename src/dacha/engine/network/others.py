"""The effect of other programs' rules on a connection through a door."""

from __future__ import annotations

from dacha.core.endpoint import Endpoint
from dacha.core.lab.model import Lab
from dacha.core.lab.names import link_name
from dacha.core.network.firewall.matches import Packet
from dacha.core.network.firewall.passage import (
    TRACKED,
    TRANSLATED,
    Flow,
    Links,
    Stopped,
    first_stop,
    from_guest,
    from_this_host,
    over_bridge,
    through,
    to_this_host,
    within_this_host,
)
from dacha.core.network.firewall.walk import Rules, led_by, untracked_by
from dacha.core.network.links import lan_link
from dacha.core.plan.addresses import AdapterPlan
from dacha.core.plan.doors import DoorPlan, endpoint, here
from dacha.core.trace.seen.results import Dropped
from dacha.host.network import addresses, iproute, nft, sysctls

# The prefix of Dacha's own tables. Their NAT has the usual priority: chains before it see a connection first.
OWN = "dacha_"
# Hooks where `apply --open-firewall` adds a rule.
OPENED = ("forward", "input")


def listing() -> Rules | None:
    """The rules of every other program; None if they are not readable."""
    found = nft.listing(OWN)
    return None if found is None else Rules(found)


def dropped(
    lab: Lab, door: DoorPlan, rules: Rules | None, *, from_lan: bool, asker: str | None, lan: str | None
) -> Dropped | None:
    """What else on this host drops a connection from the door's origin, or its replies."""
    if rules is None or door.adapter is None:
        return None
    if not from_lan:
        place = here(door)
        return dropped_here(lab, door, rules, endpoint(*place) if place else None)
    if door.means == "own":
        return _dropped_on_bridge(lab, door, door.adapter, rules, asker)
    if door.port is None:
        return None
    kernel, version = door.backend == "kernel", door.listen.version
    inside = door.adapter.address6 if version == 6 else door.adapter.address
    if kernel and inside is None:
        return None
    entry = str(door.listen) if version == 6 else lan
    links = _links(lab, door.adapter, addresses.lan_interface() or "")
    led = (str(inside), door.door.to.first) if kernel else (None, 0)
    flow = Flow(version, door.door.protocol, asker, entry, door.port.first, *led)

    def stop(flow: Flow) -> Stopped | None:
        return first_stop(rules, through(flow, links) if kernel else to_this_host(flow, links), OWN)

    found = stop(flow)
    # `apply --open-firewall` opens it for a client that no rule knows.
    return _told(found, openable=stop(flow._replace(client=None)) == found) if found else None


def _dropped_on_bridge(
    lab: Lab, door: DoorPlan, adapter: AdapterPlan, rules: Rules, asker: str | None
) -> Dropped | None:
    """What else on this host drops a connection that it bridges from the LAN to a guest."""
    links = _links(lab, adapter, "")
    ports = [port for port in iproute.bridge_ports(links.bridge) if port != links.tap]
    if adapter.address is None or not ports:
        return None  # directly on an adapter
    flow = Flow(4, door.door.protocol, asker, None, 0, str(adapter.address), door.door.to.first)
    by_ip = sysctls.read("net/bridge/bridge-nf-call-iptables") == "1"
    links = links._replace(outer=ports[0] if len(ports) == 1 else "")
    found = first_stop(rules, over_bridge(flow, links, by_ip=by_ip), OWN)
    return _told(found, openable=False) if found else None


def dropped_here(lab: Lab, door: DoorPlan, rules: Rules | None, place: Endpoint | None) -> Dropped | None:
    """What else on this host drops its own connection, or the replies: to the door's guest, in user mode to the door at
    `place`."""
    if rules is None or door.adapter is None or door.adapter.address is None:
        return None
    if door.means == "forward" and door.backend == "user":
        if place is None:
            return None
        own = Flow(6 if ":" in place.address else 4, door.door.protocol, None, place.address, place.port)
        found = first_stop(rules, within_this_host(own), OWN)
        return _told(found, openable=False) if found else None
    flow = Flow(4, door.door.protocol, None, None, 0, str(door.adapter.address), door.door.to.first)
    found = first_stop(rules, from_this_host(flow, _links(lab, door.adapter, "")), OWN)
    return _told(found, openable=False) if found else None


def dropped_outward(
    lab: Lab, adapter: AdapterPlan, rules: Rules, source: str, target: str, port: int, outer: str
) -> Dropped | None:
    """What else on this host drops a guest's TCP connection to another machine that leaves by `outer`, or the
    replies."""
    flow = Flow(6 if ":" in target else 4, "tcp", target, None, port, source or None)
    found = first_stop(rules, from_guest(flow, _links(lab, adapter, outer)), OWN)
    return _told(found, openable=False) if found else None


def _told(stop: Stopped, *, openable: bool) -> Dropped:
    may = openable and stop.hook in OPENED and not stop.back and not stop.below_ip
    return Dropped(str(stop.culprit), stop.culprit.shown_by(), stop.back, may, stop.below_ip)


def _links(lab: Lab, adapter: AdapterPlan, outer: str) -> Links:
    network = lab.networks[adapter.network]
    bridge = link_name(lab.name, "network", network.name) if network.managed else lan_link(lab, network) or ""
    return Links(outer, bridge, link_name(lab.name, "guest", adapter.guest, str(adapter.number)))


def taken(door: DoorPlan, rules: Rules | None, *, from_lan: bool, asker: str | None, at: str) -> tuple[str, str] | None:
    """Which rule of another program redirects a connection before the door's rule; `at` is the door's address."""
    if (packet := _entering(door, rules, from_lan, asker, at)) is None or rules is None:
        return None
    found = led_by(rules, "prerouting" if from_lan else "output", packet, OWN, TRANSLATED)
    return (str(found), found.shown_by()) if found else None


def untracked(
    door: DoorPlan, rules: Rules | None, *, from_lan: bool, asker: str | None, at: str
) -> tuple[str, str] | None:
    """Which rule of another program exempts a connection from connection tracking, so that the door's rule does not
    apply to it."""
    packet = _entering(door, rules, from_lan, asker, at)
    if packet is None or rules is None or door.backend != "kernel":
        return None
    found = untracked_by(rules, "prerouting" if from_lan else "output", packet, OWN, TRACKED)
    return (str(found), found.shown_by()) if found else None


def _entering(door: DoorPlan, rules: Rules | None, from_lan: bool, asker: str | None, at: str) -> Packet | None:
    at = at.strip("[]")
    if rules is None or door.port is None or not at[:1].isalnum():
        return None
    arrives, leaves = (addresses.lan_interface(), None) if from_lan else (None, "lo")
    return Packet(6 if ":" in at else 4, arrives, leaves, asker, at, door.door.protocol, door.port.first)
