"""The part of `lab.toml` that describes one door of a guest."""

from __future__ import annotations

from dacha.core.lab import address_fields, fields
from dacha.core.lab.client import Client, read_client
from dacha.core.lab.kinds import ORIGINS, PROTOCOLS, SERVICES
from dacha.core.lab.model import Door
from dacha.core.lab.network import Ports
from dacha.core.lab.table.reader import Table, checked_name

# One forward each: a wider range is usually a mistake, and takes long to open.
RANGE_MOST = 256


def _equally_many(port: Ports, to: Ports) -> str:
    """How to make the ranges on both sides the same width: change the host's, or the guest's."""
    ways = (("port", port.first, to.width), ("to", to.first, port.width))
    return ", or ".join(
        f'{key} = "{Ports(first, first + width - 1)}"' for key, first, width in ways if first + width <= 65536
    )


def read_door(guest: str, name: str, t: Table) -> Door:
    """The door described by the table `t`; errors become findings."""
    checked_name(t, name)
    service = t.take("service", fields.choice(*SERVICES), name if name in SERVICES else None)
    origin = t.need("from", fields.choice(*ORIGINS), '"host"') or "host"
    to = t.take("to", fields.ports, None)
    port = t.take("port", fields.ports, None)
    if to is None:
        known = SERVICES[service] if service else None
        if known is None and "to" not in t.data:
            t.wrong(
                "",
                "missing",
                "the guest's port is not specified",
                f"add: to = 8000, or service = one of {', '.join(SERVICES)}",
            )
        to = Ports(known or 1, known or 1)
    client = t.table("client")
    door = Door(
        guest=guest,
        name=name,
        service=service,
        origin=origin,
        to=to,
        port=port,
        protocol=t.take("protocol", fields.choice(*PROTOCOLS), "tcp"),
        listen=t.take("listen", address_fields.address, None),
        allow=t.list_of("allow", address_fields.source),
        network=t.take("network", fields.text, None),
        outside_port=t.take("outside-port", fields.whole(1, 65535), None),
        always=t.take("always", fields.flag, True),
        places=t.list_of("places", fields.text),
        client=read_client(client, service) if client else Client(),
    )
    t.finish()
    if door.outside_port and origin != "outside":
        t.wrong("outside-port", "misplaced", "for doors from outside only", 'remove it, or from = "outside"')
    if door.outside_port and door.outside_port + to.width > 65536:
        t.wrong(
            "outside-port",
            "range",
            f"{to.width} ports from {door.outside_port} end above 65535",
            "choose a lower first port",
        )
    if port and port.width != to.width:
        t.wrong(
            "port",
            "range",
            f"{port.width} ports of the host for {to.width} of the guest",
            f"use the same number of ports on both: {_equally_many(port, to)}",
        )
    if to.width > RANGE_MOST:
        t.wrong("to", "range", f"{to.width} ports are too many for one door", f"at most {RANGE_MOST}")
    if service in ("ssh", "rdp", "vnc", "http", "https") and door.protocol == "udp":
        t.wrong("protocol", "value", f"{service} uses TCP", "remove the key protocol")
    return door
