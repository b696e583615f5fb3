"""dacha address list, propose, check."""

from __future__ import annotations

import argparse
import time
from typing import Any

from dacha.cli import arguments
from dacha.cli.commands import Action, nothing
from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo


def address_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "The lab's address plan: used and free addresses."


def _propose(parser: argparse.ArgumentParser) -> None:
    arguments.network(parser, "network", optional=True, what="a network of the lab (default: propose a free subnet)")


def _check(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("address", metavar="ADDRESS", help="an IPv4 address, also with prefix length or mask")


def run_list(args: argparse.Namespace) -> int:
    from dacha.core.lab.names import host_name
    from dacha.core.plan.learned import learned
    from dacha.engine.network.live import read
    from dacha.engine.workspace import load

    ws = load(args.lab)
    seen = read(ws.home)
    where = learned(ws.plan, seen)
    rows = [
        {
            "guest": a.guest,
            "adapter": a.number,
            "network": a.network,
            "address": str(a.address) if a.address else None,
            "prefix": a.prefix,
            "address6": str(a.address6) if a.address6 else None,
            "hardware_address": a.hardware_address,
            "name": host_name(ws.lab.name, a.guest),
            "seen": str(s.address) if (s := seen.get((a.guest, a.number))) and s.address else None,
            "seen_at": s.at if s else None,
            "seen_by": s.by if s else None,
            "seen6": list(s.others) if s else [],
            "conflict": bool(s and s.address and s.address != (a.address or where.get((a.guest, a.number)))),
            "planned": a.address is not None,
            "chosen": ("guest", a.guest, "adapter", a.number, "address") in ws.plan.chosen,
        }
        for a in ws.plan.adapters.values()
    ]
    if args.json:
        when = [s.at if (s := seen.get((a.guest, a.number))) else None for a in ws.plan.adapters.values()]
        told = [row | {"seen_at": output.moment(at)} for row, at in zip(rows, when, strict=True)]
        output.emit_json({"lab": ws.lab.name, "addresses": told})
        return 0
    if not rows:
        output.say("No adapters yet. Next: dacha guest add NAME --from IMAGE")
        return 0
    output.table(
        ("ADDRESS", "NETWORK", "GUEST", "HARDWARE ADDRESS", "NAME", *(["SEEN IN TRAFFIC"] if seen else [])),
        [
            (
                " ".join(str(a) for a in (r["address"] or "by DHCP", r["address6"]) if a),
                str(r["network"]),
                str(r["guest"]),
                str(r["hardware_address"]),
                str(r["name"]),
                *([_seen_words(r)] if seen else []),
            )
            for r in rows
        ],
    )
    return 0


def _seen_words(row: dict[str, Any]) -> str:
    from dacha.core.units import show_duration

    if row["seen"] is None:
        return "-"
    age = f"{show_duration(max(0.0, time.time() - row['seen_at']))} ago"
    if row["conflict"]:
        return f"{row['seen']}: {'NOT AS PLANNED' if row['address'] else 'NOT AVAILABLE'}, {age}"
    return age if row["address"] else f"{row['seen']}, {age}"


def run_propose(args: argparse.Namespace) -> int:
    from dacha.core.plan.addresses import propose_address
    from dacha.core.plan.subnets import UsedSubnets, free_subnet
    from dacha.engine.lab.named import network_named
    from dacha.engine.workspace import load
    from dacha.host.network.addresses import used_subnets

    ws = load(args.lab)
    if args.network is None:
        used = UsedSubnets([*used_subnets(), *(n.subnet for n in ws.plan.networks.values() if n.subnet)])
        subnet = free_subnet(ws.lab.name, "", used)
        if subnet is None:
            raise AnswerNo("no free subnet is left")
        output.emit_json({"subnet": str(subnet)}) if args.json else output.say(str(subnet))
        return 0
    network_named(ws, args.network)
    address = propose_address(ws.lab, args.network, used_subnets())
    if address is None:
        raise AnswerNo(
            f"network {args.network} has no free address",
            why="it is full, or it is a bridge whose LAN assigns addresses",
            remedy="use a larger subnet or another network",
        )
    if args.json:
        output.emit_json({"network": args.network, "address": str(address)})
    else:
        output.say(str(address))
    return 0


def run_check(args: argparse.Namespace) -> int:
    """Whether an address is in a network of the lab, and whether a guest can have it; exit code 1 if not."""
    from dacha.core.errors import BadValue, UsageError
    from dacha.core.lab import address_fields
    from dacha.core.plan.place import judge_address
    from dacha.engine.workspace import load
    from dacha.host.network.addresses import used_subnets

    ws = load(args.lab)
    try:
        address, prefix = address_fields.interface4(args.address)
    except BadValue as e:
        raise UsageError(e.what, remedy=e.remedy) from None
    found = judge_address(ws.lab, ws.plan, address, prefix, used_subnets())
    if args.json:
        row = {"address": str(address), "network": found.network, "available": found.free, "guest": found.guest}
        output.emit_json({"lab": ws.lab.name, **row, "what": found.what})
    else:
        output.say(f"{address}: {found.what}")
        if found.remedy:
            output.say(f"  {found.remedy}")
    return 0 if found.free else 1


ACTIONS = (
    Action("list", "list every adapter's addresses", "dacha address list", nothing, run_list),
    Action(
        "propose", "propose a free address of a network, or a free subnet", "dacha address propose pier", _propose,
        run_propose,
    ),
    Action(
        "check", "say which network an address is in, and whether a guest can have it",
        "dacha address check 10.77.4.20", _check, run_check,
    ),
)  # fmt: skip
