"""dacha door add, edit, remove, list."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.commands import Action
from dacha.cli.terminal import output
from dacha.core.errors import UsageError
from dacha.core.units import whole_number

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


WHO = "host|lan|outside"
_FROM = "who may enter; host: this host, and guests of the same network in user mode"


def door_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Doors: each makes one service of a guest reachable. Without a door, a service is closed."


def _add(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser)
    parser.add_argument("name", metavar="NAME", help="ssh, rdp, vnc, http, https, or any name, with --to or --service")
    parser.add_argument("--from", dest="origin", metavar=WHO, default="host", help=f"{_FROM} (default: host)")
    _options(parser)


def _edit(parser: argparse.ArgumentParser) -> None:
    arguments.door(parser)
    parser.add_argument("--from", dest="origin", metavar=WHO, help=_FROM)
    _options(parser, allow="allow this address or subnet, too; may be repeated")
    arguments.many(parser, "--disallow", "disallow", "ADDRESS", "no longer allow this address or subnet")
    arguments.unset(parser)


def _list(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, optional=True)


def _options(
    parser: argparse.ArgumentParser, allow: str = "allow only this address or subnet; may be repeated"
) -> None:
    parser.add_argument("--service", metavar="SERVICE", help="protocol of the service: ssh, rdp, vnc, http, https")
    parser.add_argument("--port", metavar="PORT", help="the host's port, or a range 5000-5010 (default: a free one)")
    parser.add_argument("--to", metavar="PORT", help="the guest's port or range (default: the service's standard port)")
    parser.add_argument("--protocol", metavar="tcp|udp", help="transport protocol (default: tcp)")
    parser.add_argument("--listen", metavar="ADDRESS", help="the host's address to listen on")
    parser.add_argument("--allow", metavar="ADDRESS", action="append", help=allow)
    parser.add_argument("--outside-port", metavar="PORT", help="the router's port, for a door from outside")
    parser.add_argument("--network", metavar="NETWORK", help="the network of the guest to use")
    shown = parser.add_argument_group("how clients show it, in the files of a handout")
    shown.add_argument("--group", metavar="NAME", help="group of connections in the client (default: the lab's name)")
    shown.add_argument("--domain", metavar="NAME", help="domain of the user's account, for remote desktop")
    shown.add_argument("--size", metavar="WxH", help="size of the desktop's window, or full-screen (default: 1280x800)")
    shown.add_argument("--all-screens", action=argparse.BooleanOptionalAction, help="use every monitor of the client")
    shown.add_argument("--sound", metavar="WHERE", help="where it is played: client (default), guest, or off")
    parser.add_argument(
        "--always",
        action=argparse.BooleanOptionalAction,
        help="expect its server to run whenever the guest is on (default), or not: nothing waits for it then",
    )


def _values(args: argparse.Namespace) -> dict[str, Any]:
    values: dict[str, Any] = {"service": args.service, "from": args.origin}
    for key, text in (("port", args.port), ("to", args.to), ("outside-port", args.outside_port)):
        number = whole_number(text or "")
        values[key] = text if number is None else number
    values |= {
        "protocol": args.protocol,
        "listen": args.listen,
        "allow": args.allow,
        "network": args.network,
        "always": args.always,
    }
    return {k: v for k, v in values.items() if v is not None}


def _client(args: argparse.Namespace) -> dict[str, Any]:
    asked = (("group", args.group), ("domain", args.domain), ("size", args.size), ("all-screens", args.all_screens))
    return {k: v for k, v in (*asked, ("sound", args.sound)) if v is not None}


def _held(args: argparse.Namespace) -> Any:
    """A check of the edited lab: the door's host port must not be in use by another program."""
    from dacha.engine.check.host import port_findings
    from dacha.engine.guest.observe import observe_guest

    def judge(ws: Workspace) -> list[Any]:
        seen = {args.guest: observe_guest(ws.home, args.guest)}
        return [f for f in port_findings(ws, ws.plan, seen, {args.guest}) if f.path[3:4] == (args.name,)]

    return judge


def _report(args: argparse.Namespace, ws: Workspace) -> int:
    from dacha.cli.words import door_json, door_words

    if args.json:
        output.emit_json(door_json(ws, args.name, args.guest))
    else:
        output.say(f"{ws.path.name} now has")
        output.step(f"door {args.guest} {args.name}", door_words(ws.plan.doors[args.guest, args.name]))
        output.say("Next: dacha apply")
    return 0


def run_add(args: argparse.Namespace) -> int:
    from dacha.core.lab.kinds import SERVICES
    from dacha.core.lab.text.edits import Edit, Set
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import guest_named

    def decide(ws: Workspace) -> list[Edit]:
        if any(d.name == args.name for d in guest_named(ws, args.guest).doors):
            raise UsageError(
                f"{args.guest} already has a door {args.name}",
                where=ws.path.name,
                remedy=f"dacha door edit {args.guest} {args.name} …",
            )
        values = _values(args)
        if "to" not in values and str(values.get("service", args.name)) not in SERVICES:
            remedy = f"dacha door add {args.guest} {args.name} --to PORT, or --service {'|'.join(SERVICES)}"
            raise UsageError(f"door {args.name}: the guest's port is not specified", remedy=remedy)
        if client := _client(args):
            values["client"] = client
        return [Set(("guest", args.guest, "door", args.name), values)]

    return _report(args, edit_lab(args.lab, decide, _held(args)))


def run_edit(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Remove, Set
    from dacha.engine.lab.admitted import admitted
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import door_named
    from dacha.engine.lab.unset import unset_edits

    def decide(ws: Workspace) -> list[Edit]:
        door_named(ws, args.guest, args.name)
        values = _values(args)
        client = _client(args)
        if not (values or client or args.disallow or args.unset):
            raise UsageError("no changes specified", remedy="see: dacha door edit --help")
        here = ("guest", args.guest, "door", args.name)
        door = next(d for d in ws.lab.guests[args.guest].doors if d.name == args.name)
        if args.allow or args.disallow:
            values["allow"] = admitted(door, args.allow or [], args.disallow)
        # A door that is no longer from outside has no port there.
        inward = door.outside_port and args.origin in ("host", "lan") and not args.outside_port
        dropped: list[Edit] = [Remove((*here, "outside-port"))] if inward else []
        return [
            *dropped,
            *unset_edits(ws, here, args.unset),
            *(Set((*here, key), value) for key, value in values.items()),
            *(Set((*here, "client", key), value) for key, value in client.items()),
        ]

    return _report(args, edit_lab(args.lab, decide, _held(args)))


def run_remove(args: argparse.Namespace) -> int:
    from dacha.core.lab.text.edits import Edit, Remove
    from dacha.core.people.accounts import edits_without
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.named import door_named

    def decide(ws: Workspace) -> list[Edit]:
        door_named(ws, args.guest, args.name)
        return [Remove(("guest", args.guest, "door", args.name)), *edits_without(ws.lab, args.guest, args.name)]

    ws = edit_lab(args.lab, decide)
    if args.json:
        output.emit_json({"removed": {"guest": args.guest, "door": args.name}})
    else:
        output.say(f"{ws.path.name} no longer has door {args.guest} {args.name}.\nNext: dacha apply")
    return 0


def run_list(args: argparse.Namespace) -> int:
    from ipaddress import ip_network

    from dacha.cli.words import door_json
    from dacha.core.lab.address_fields import show_source
    from dacha.engine.lab.named import guest_named
    from dacha.engine.workspace import load

    ws = load(args.lab)
    guests = [guest_named(ws, args.guest)] if args.guest else list(ws.lab.guests.values())
    rows = [door_json(ws, d.name, g.name) for g in guests for d in g.doors]
    if args.json:
        output.emit_json({"lab": ws.lab.name, "doors": rows})
        return 0
    if not rows:
        output.say("No doors yet: no guest is reachable. Next: dacha door add GUEST ssh --from host")
        return 0
    output.table(
        ("GUEST", "DOOR", "FROM", "LISTENS ON", "PORT", "TO", "ADMITS"),
        [
            (
                r["guest"],
                r["name"],
                r["from"],
                r["listen"] if r["means"] == "forward" else "-",
                _range(r["port"], r["last_port"]),
                _range(r["to"], r["last_to"]) + ("" if r["protocol"] == "tcp" else f" {r['protocol']}"),
                ", ".join(show_source(ip_network(a)) for a in r["allow"]) or "everybody",
            )
            for r in rows
        ],
    )
    return 0


def _range(first: int | None, last: int | None) -> str:
    return "-" if first is None else str(first) if first == last else f"{first}-{last}"


ACTIONS = (
    Action("add", "add a door", "dacha door add gauge ssh --from lan", _add, run_add),
    Action("edit", "change a door", "dacha door edit gauge ssh --port 2222", _edit, run_edit),
    Action("remove", "remove a door", "dacha door remove gauge ssh", arguments.door, run_remove),
    Action("list", "list the doors", "dacha door list gauge", _list, run_list),
)
