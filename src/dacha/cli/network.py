"""dacha network add, edit, remove, list, show."""

from __future__ import annotations

import argparse
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.commands import Action, nothing
from dacha.cli.terminal import output
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


_VALUES = (
    "kind", "backend", "subnet", "gateway", "subnet6", "gateway6", "dynamic", "interface", "vlan", "made-from",
    "way-out",
)  # fmt: skip


def network_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Networks of the lab. Without a subnet, apply chooses a free one and writes it into the file."


def _add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="name of the network: lower-case letters, digits and dashes")
    _options(parser)


def _edit(parser: argparse.ArgumentParser) -> None:
    arguments.network(parser)
    _options(parser)
    parser.add_argument(
        "--renumber", metavar="SUBNET", help="move the network to another subnet; each guest keeps its position in it"
    )
    arguments.unset(parser)


def _options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--kind", metavar="KIND", help="nat, host-only or bridge (default: nat)")
    parser.add_argument(
        "--backend", metavar="user|kernel", help="backend: user (QEMU's user mode), or kernel (as root)"
    )
    parser.add_argument("--subnet", metavar="SUBNET", help="such as 10.77.4.0/24 (default: a free one)")
    parser.add_argument("--gateway", metavar="ADDRESS", help="gateway of the guests (default: the first address)")
    parser.add_argument("--subnet6", metavar="SUBNET", help="such as fd77:4::/64")
    parser.add_argument("--gateway6", metavar="ADDRESS", help="IPv6 gateway of the guests (default: the first address)")
    parser.add_argument("--dynamic", metavar="RANGE", help="range for dynamic addresses")
    parser.add_argument("--interface", metavar="NAME", help="for a bridge network: the host's interface")
    parser.add_argument("--vlan", metavar="NUMBER", type=int, help="for a bridge network: this VLAN of the interface")
    parser.add_argument(
        "--name-server", metavar="ADDRESS", action="append",
        help="name server for its guests; may be repeated; none removes them",
    )  # fmt: skip
    parser.add_argument(
        "--made-from",
        metavar="ADAPTER",
        help="create the bridge over this adapter, and move the host's addresses to the bridge",
    )
    parser.add_argument(
        "--to-host", metavar="SERVICE", action="append",
        help='services of this host that guests may use: "tcp 3128", http, all; may be repeated; none removes them',
    )  # fmt: skip
    parser.add_argument(
        "--way-out",
        metavar="anywhere|internet",
        help="destinations: anywhere, or internet (not the private addresses of the LAN)",
    )
    isolated = parser.add_mutually_exclusive_group()
    isolated.add_argument("--isolated", action="store_true", default=None, help="no outgoing connections")
    isolated.add_argument("--open", dest="isolated", action="store_false", help="allow outgoing connections")


def _values(args: argparse.Namespace) -> dict[str, Any]:
    values: dict[str, Any] = {
        key: found for key in _VALUES if (found := getattr(args, key.replace("-", "_"))) is not None
    }
    if args.to_host:
        values["to-host"] = [] if args.to_host == ["none"] else args.to_host
    if args.name_server:
        values["name-servers"] = [] if args.name_server == ["none"] else args.name_server
    if args.isolated is not None:
        values["isolated"] = args.isolated
    return values


def _report(args: argparse.Namespace, ws: Workspace) -> int:
    from dacha.cli.words import network_json, network_words

    if args.json:
        output.emit_json(network_json(ws, args.name))
    else:
        output.say(f"{ws.path.name} now has")
        output.step(f"network {args.name}", network_words(ws, args.name))
    return 0


def run_add(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Set
    from dacha.engine.lab.edit import edit_lab

    def decide(ws: Workspace) -> list[Edit]:
        if args.name in ws.lab.networks:
            raise UsageError(
                f"a network {args.name} already exists",
                where=ws.path.name,
                remedy=f"dacha network edit {args.name} …",
            )
        return [Set(("network", args.name), {"kind": "nat"} | _values(args))]

    return _report(args, edit_lab(args.lab, decide))


def run_edit(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Set
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import network_named
    from dacha.engine.lab.unset import unset_edits

    def decide(ws: Workspace) -> list[Edit]:
        network_named(ws, args.name)
        edits: list[Edit] = [Set(("network", args.name, key), value) for key, value in _values(args).items()]
        if args.renumber:
            from dacha.engine.lab.renumber import renumber

            edits += renumber(ws, args.name, args.renumber)
        edits += unset_edits(ws, ("network", args.name), args.unset)
        if not edits:
            raise UsageError("no changes specified", remedy="see: dacha network edit --help")
        return edits

    ws = edit_lab(args.lab, decide)
    _report(args, ws)
    if not args.json:
        from dacha.cli import cutting

        cutting.warn(ws, "once applied, ")
    if args.renumber and not args.json:
        moved = [a for a in ws.plan.adapters.values() if a.network == args.name]
        for a in moved:
            output.step("address", f"{a.guest}: {a.address or 'by DHCP'}")
        output.say(f"Next: {_after_renumbering(ws, args.name, {a.guest: None for a in moved})}")
    return 0


def _after_renumbering(ws: Workspace, network: str, guests: Iterable[str]) -> str:
    """The next commands: guests that run have their old addresses until they are restarted."""
    running = [g for g in guests if ws.home.is_running(g)]
    if not running:
        return "dacha apply"
    # The kernel's network moves at once; QEMU's user mode stays as it is while its guest runs.
    until = "have no network" if ws.lab.networks[network].backend == "kernel" else "keep their addresses"
    return f"dacha apply, then dacha restart {' '.join(running)}: running guests {until} until they are restarted"


def run_remove(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Remove
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import network_named

    def decide(ws: Workspace) -> list[Edit]:
        network_named(ws, args.name)
        users = [g.name for g in ws.lab.guests.values() if any(a.network == args.name for a in g.adapters)]
        if users:
            raise UsageError(
                f"network {args.name} is used by {', '.join(users[:5])}"
                + (f" and {len(users) - 5} more" if users[5:] else ""),
                where=ws.path.name,
                remedy=f"remove it from them first: dacha guest edit {users[0]} --remove-adapter {args.name}",
            )
        return [Remove(("network", args.name))]

    ws = edit_lab(args.lab, decide)
    if args.json:
        output.emit_json({"removed": args.name})
    else:
        output.say(f"{ws.path.name} no longer has network {args.name}.")
    return 0


def run_list(args: argparse.Namespace) -> int:
    from dacha.cli.words import network_json
    from dacha.engine.workspace import load

    ws = load(args.lab)
    rows = [network_json(ws, name) for name in ws.lab.networks]
    if args.json:
        output.emit_json({"lab": ws.lab.name, "networks": rows})
        return 0
    if not rows:
        output.say("No networks yet. Next: dacha network add NAME")
        return 0
    output.table(
        ("NETWORK", "KIND", "SUBNET", "GATEWAY", "GUESTS", ""),
        [
            (
                r["name"],
                r["kind"],
                r["subnet"] or "-",
                r["gateway"] or "-",
                str(len(r["guests"])),
                "isolated" if r["isolated"] else "",
            )
            for r in rows
        ],
    )
    return 0


def run_show(args: argparse.Namespace) -> int:
    from dacha.cli.words import network_json, network_words
    from dacha.engine.lab.named import network_named
    from dacha.engine.workspace import load

    ws = load(args.lab)
    network_named(ws, args.name)
    facts = network_json(ws, args.name)
    if args.json:
        output.emit_json(facts)
        return 0
    output.say(f"{args.name}: {network_words(ws, args.name)}")
    for key in ("gateway", "resolver", "gateway6", "dynamic", "interface"):
        if facts[key]:
            output.step(key, facts[key])
    for a in ws.plan.adapters.values():
        if a.network == args.name:
            output.step(f"guest {a.guest}", f"{a.address or 'by DHCP'}, {a.hardware_address}")
    for m in ws.lab.networks[args.name].machines:
        output.step(f"machine {m.name}", f"{m.address}, {m.hardware_address}, by DHCP; no guest")
    return 0


ACTIONS = (
    Action("add", "add a network", "dacha network add pier --kind nat", _add, run_add),
    Action("edit", "change a network", "dacha network edit pier --isolated", _edit, run_edit),
    Action("remove", "remove a network without guests", "dacha network remove pier", arguments.network, run_remove),
    Action("list", "list the networks", "dacha network list", nothing, run_list),
    Action("show", "show one network", "dacha network show pier", arguments.network, run_show),
)
