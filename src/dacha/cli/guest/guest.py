"""dacha guest add, edit, remove, list, show."""

from __future__ import annotations

import argparse
from typing import Any

from dacha.cli.commands import Parser, common, unset_argument
from dacha.cli.guest.listing import emit_guest, run_list, run_show
from dacha.cli.terminal import output
from dacha.core.errors import UsageError


def guest_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Guests of the lab. add, edit and remove change lab.toml only; dacha apply takes it to the host."
    )
    actions = parser.add_subparsers(metavar="ACTION", required=True, parser_class=Parser)

    add = actions.add_parser(
        "add", help="add a guest", epilog="example: dacha guest add gauge --from debian-12.qcow2 --memory 1GiB"
    )
    add.add_argument("name", metavar="NAME")
    add.add_argument(
        "--from", dest="image", metavar="IMAGE", help="the image its disk starts from; it is never written to"
    )
    add.add_argument("--install", metavar="MEDIUM", help="install from this medium at its first start")
    add.add_argument("--with", dest="beside", metavar="MEDIUM", help="with --install: a second medium beside it")
    add.add_argument(
        "--attach",
        metavar="DISK",
        nargs="+",
        default=[],
        help="start with disks kept from an earlier guest",
    )
    add.add_argument("--new-disk", action="store_true", help="start anew beside disks kept from an earlier guest")
    add.add_argument("--copy", action="store_true", help="with --from: copy the image instead of building on it")
    add.add_argument("--storage", metavar="STORAGE", help="keep its disk in this storage of the lab")
    add.add_argument("--disk", metavar="SIZE", help="the disk's size (default: its system's usual one, or the image's)")
    add.add_argument(
        "--network", metavar="NETWORK", help="the network it is on (default: the first; made when there is none)"
    )
    add.add_argument("--address", metavar="ADDRESS", help="its address (default: the next free one)")
    add.add_argument("--kernel", metavar="FILE", help="boot this kernel directly")
    add.add_argument("--initrd", metavar="FILE", help="with --kernel: its initial root file system")
    add.add_argument("--command-line", metavar="TEXT", help="with --kernel: its command line")
    _shared(add)
    common(add)
    add.set_defaults(run=run_add)

    edit = actions.add_parser("edit", help="change a guest", epilog="example: dacha guest edit gauge --memory 2GiB")
    _named(edit)
    _shared(edit)
    edit.add_argument(
        "--adapter", metavar="NETWORK", action="append", default=[], help="add an adapter on this network"
    )
    edit.add_argument(
        "--remove-adapter", metavar="NETWORK", action="append", default=[], help="take its adapter off this network"
    )
    edit.add_argument(
        "--address", metavar="[NETWORK=]ADDRESS", help="change its address (of the first adapter, or on NETWORK)"
    )
    unset_argument(edit)
    edit.add_argument("--add-disk", metavar="SIZE", action="append", default=[], help="add an empty disk")
    edit.add_argument(
        "--detach-disk", metavar="DISK", action="append", default=[], help="take a disk out; its contents are kept"
    )
    edit.add_argument(
        "--attach-disk", metavar="DISK", action="append", default=[], help="put a disk that was kept back in"
    )
    common(edit)
    edit.set_defaults(run=run_edit)

    remove = actions.add_parser(
        "remove", help="remove a guest; its disks stay", epilog="example: dacha guest remove gauge"
    )
    _named(remove)
    remove.add_argument(
        "--with-disks", action="store_true", help="its disks too, at the next apply: what is on them is lost"
    )
    common(remove)
    remove.set_defaults(run=run_remove)

    listing = actions.add_parser("list", help="list the guests", epilog="example: dacha guest list")
    common(listing)
    listing.set_defaults(run=run_list)

    show = actions.add_parser(
        "show", help="show one guest, with what the plan makes of it", epilog="example: dacha guest show gauge"
    )
    _named(show)
    common(show)
    show.set_defaults(run=run_show)


def _named(parser: argparse.ArgumentParser) -> None:
    from dacha.cli.completion import guest_names

    parser.add_argument("name", metavar="GUEST").completer = lambda **_: guest_names()  # type: ignore[attr-defined]


def _shared(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--system", metavar="FAMILY", help="its system: debian, fedora, windows, … (see profiles)")
    parser.add_argument("--cpus", type=int, metavar="N")
    parser.add_argument("--memory", metavar="SIZE", help='such as "1 GiB"')
    parser.add_argument("--firmware", metavar="bios|uefi")
    parser.add_argument("--secure-boot", action=argparse.BooleanOptionalAction, help="UEFI starts signed systems only")
    parser.add_argument("--tpm", action=argparse.BooleanOptionalAction, help="a TPM 2.0 of its own")
    parser.add_argument("--resolution", metavar="WxH", help='its display, such as "1280x800"')
    parser.add_argument("--user", metavar="USER", help="who may log in")
    parser.add_argument("--key", metavar="FILE", action="append", default=[], help="a public key that opens this login")


def machine_values(args: argparse.Namespace) -> dict[str, Any]:
    """The values of the machine that were named, by their keys in the lab file."""
    named = {"firmware": args.firmware, "secure-boot": args.secure_boot, "tpm": args.tpm, "resolution": args.resolution}
    return {key: value for key, value in named.items() if value is not None}


def run_add(args: argparse.Namespace) -> int:
    from dacha.core.lab.edits import Edit, Set
    from dacha.core.units import show_size
    from dacha.engine.disks import kept as kept_disks
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.proposals import (
        disk_size_for,
        family_of,
        firmware_for,
        login_for,
        medium_facts,
        tidy_size,
        usual,
        written_path,
    )
    from dacha.engine.workspace import Workspace

    made_network: list[str] = []

    def decide(ws: Workspace) -> list[Edit]:
        if args.name in ws.lab.guests:
            raise UsageError(
                f"there is a guest {args.name} already", where=ws.path.name, remedy=f"dacha guest edit {args.name} …"
            )
        if not args.attach and not args.new_disk:
            kept_disks.refuse_silent(ws, args.name)
        edits: list[Edit] = []
        network = args.network or next((n.name for n in ws.lab.networks.values() if n.kind == "nat"), None)
        if network is None:
            network = "inside"
            made_network.append(network)
            edits.append(Set(("network", network), {"kind": "nat"}))
        guest: dict[str, Any] = {}
        family = args.system or family_of(args.image)
        if args.install and not family:
            family = medium_facts(ws, args.install).get("family")
        if family:
            guest["system"] = family
        values = usual(family)
        if args.cpus is not None:
            guest["cpus"] = args.cpus
        guest["memory"] = tidy_size(args.memory) if args.memory else show_size(values.memory)
        if args.kernel:
            boot = {
                "kernel": written_path(ws, args.kernel),
                "initrd": args.initrd and written_path(ws, args.initrd),
                "command-line": args.command_line,
            }
            guest["boot"] = {k: v for k, v in boot.items() if v}
        elif args.initrd or args.command_line:
            raise UsageError("--initrd and --command-line need --kernel", remedy="name the kernel too")
        if args.install and not args.firmware:
            guest["firmware"] = firmware_for(ws, args.install, values.firmware)
        if args.install:
            guest["install"] = args.install
        if args.beside:
            guest["medium"] = [args.beside]
        if args.attach:
            attached = kept_disks.chosen(ws, args.name, args.attach)
            guest["disk"] = [
                ({} if d.name == str(n) else {"name": d.name}) | {"size": show_size(d.size)}
                for n, d in enumerate(attached)
            ]
        elif args.image:
            size = tidy_size(args.disk) if args.disk else disk_size_for(ws, written_path(ws, args.image), values.disk)
            guest["disk"] = [{"from": written_path(ws, args.image)} | ({"size": size} if size else {})]
            if args.copy:
                guest["disk"][0]["copy"] = True
        elif args.disk or not args.kernel:
            guest["disk"] = [{"size": tidy_size(args.disk) if args.disk else show_size(values.disk)}]
        if args.storage:
            guest["disk"][0]["storage"] = args.storage
        taken = [d.name for d in kept_disks.kept(ws.home, args.name)]
        if args.new_disk and guest.get("disk") and taken:
            guest["disk"][0]["name"] = next(str(n) for n in range(1000) if str(n) not in taken)
        guest |= machine_values(args)
        guest["adapter"] = [{"network": network} | ({"address": args.address} if args.address else {})]
        login = login_for(args.user, args.key)
        if login:
            guest["login"] = login
        return [*edits, Set(("guest", args.name), guest)]

    ws = edit_lab(args.lab, decide)
    if (args.attach or args.new_disk) and ws.home.guest(args.name).is_dir():
        kept_disks.take(ws.home, args.name)
    if args.json:
        emit_guest(ws, args.name)
        return 0
    from dacha.cli.guest.missing import say_missing
    from dacha.cli.words import guest_words, network_words

    guest = ws.lab.guests[args.name]
    output.say(f"{ws.path.name} now has")
    output.step(f"guest {guest.name}", guest_words(guest))
    for adapter in ws.plan.adapters_of(guest.name):
        if adapter.network in made_network:
            output.step(f"network {adapter.network}", network_words(ws, adapter.network))
        output.step("address", f"{adapter.address or 'by DHCP'} on {adapter.network}")
    if guest.login:
        keys = ", ".join(guest.login.keys)
        output.step(
            "login",
            f"{guest.login.user}, with {keys}" if keys else f"{guest.login.user}, without a key: add one with --key",
        )
    else:
        output.step("login", f"nobody: dacha guest edit {guest.name} --user ops --key FILE.pub")
    say_missing(ws, guest.name)
    service = "rdp" if guest.system == "windows" else "ssh"
    output.say(f"Next: dacha door add {guest.name} {service} --from host, then dacha apply")
    return 0


def run_edit(args: argparse.Namespace) -> int:
    from dacha.cli.guest.missing import say_missing
    from dacha.cli.words import guest_words
    from dacha.core.lab.edits import Edit, Remove, Set
    from dacha.engine.disks import kept as kept_disks
    from dacha.engine.lab.disk_edits import disk_edits
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.proposals import tidy_size
    from dacha.engine.lab.unset import unset_edits
    from dacha.engine.reach.ssh import guest_named
    from dacha.engine.workspace import Workspace

    retaken: list[str] = []

    def decide(ws: Workspace) -> list[Edit]:
        guest = guest_named(ws, args.name)
        here = ("guest", args.name)
        values = {"system": args.system, "cpus": args.cpus, "memory": tidy_size(args.memory) if args.memory else None}
        values |= machine_values(args)
        edits: list[Edit] = [Set((*here, key), value) for key, value in values.items() if value is not None]
        if args.user or args.key:
            if guest.login:
                edits += [Set((*here, "login", "user"), args.user)] if args.user else []
                edits += (
                    [Set((*here, "login", "keys"), list(dict.fromkeys([*guest.login.keys, *args.key])))]
                    if args.key
                    else []
                )
            else:
                edits.append(Set((*here, "login"), {"user": args.user or "ops", "keys": args.key}))
        names = [a.network for a in guest.adapters]
        for network in args.remove_adapter:
            if network not in names:
                raise UsageError(
                    f"{args.name} has no adapter on {network}", remedy=f"it is on: {', '.join(names) or 'none'}"
                )
            n = names.index(network)
            names.pop(n)
            edits.append(Remove((*here, "adapter", n)))
        for network in args.adapter:
            edits.append(
                Set((*here, "adapter", len(names)), {"network": network})
                if guest.adapters
                else Set((*here, "adapter"), [{"network": network}])
            )
            names.append(network)
        if args.address:
            network, _, address = args.address.rpartition("=")
            if not names or (network and network not in names):
                raise UsageError(
                    f"{args.name} has no adapter on {network or 'any network'}", remedy="add one: --adapter NETWORK"
                )
            edits.append(Set((*here, "adapter", names.index(network) if network else 0, "address"), address))
        mine = {d.name for d in guest.disks}
        if ws.home.read(args.name).removed is not None and mine & set(args.attach_disk):
            # The file has it already: what was asked for is to take what was kept.
            retaken.extend(sorted(mine & set(args.attach_disk)))
        attach = [d for d in args.attach_disk if d not in retaken]
        edits += disk_edits(ws, guest, args.detach_disk, attach, [tidy_size(s) for s in args.add_disk])
        edits += unset_edits(ws, here, args.unset)
        if not edits and not retaken:
            raise UsageError("nothing to change was named", remedy="see: dacha guest edit --help")
        return edits

    ws = edit_lab(args.lab, decide)
    if retaken:
        kept_disks.take(ws.home, args.name)
    if args.json:
        emit_guest(ws, args.name)
        return 0
    for disk in retaken:
        output.say(f"{args.name} takes disk {disk} that was kept.")
    output.say(f"{ws.path.name} now has")
    output.step(f"guest {args.name}", guest_words(ws.lab.guests[args.name]))
    for a in ws.plan.adapters_of(args.name):
        output.step("address", f"{a.address or 'by DHCP'} on {a.network}")
    say_missing(ws, args.name)
    output.say("Next: dacha diff shows what this changes on the host, dacha apply does it")
    return 0


def run_remove(args: argparse.Namespace) -> int:
    from dacha.core.lab.edits import Edit, Remove
    from dacha.engine.disks.kept import kept
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.reach.ssh import guest_named
    from dacha.engine.workspace import Workspace, load
    from dacha.hypervisor.process import running

    def decide(ws: Workspace) -> list[Edit]:
        guest_named(ws, args.name)
        return [Remove(("guest", args.name))]

    ws = load(args.lab)
    # One that has left the file may have disks that were kept.
    left = args.name not in ws.lab.guests and args.with_disks and ws.home.disks(args.name)
    ws = ws if left else edit_lab(args.lab, decide)
    disks = kept(ws.home, args.name)
    on = running(ws.home.process_lock(args.name))
    if args.with_disks and disks:
        with ws.home.lock("guest", ws.path):
            record = ws.home.read(args.name)
            record.delete_disks = [d.name for d in disks]
            ws.home.write(args.name, record)
    if args.json:
        files = [str(d.path.resolve()) for d in disks]
        output.emit_json({"removed": args.name, "running": on, "disks": files, "disks_go": bool(args.with_disks)})
        return 0
    if not left:
        output.say(f"{ws.path.name} no longer has guest {args.name}.")
    for disk in disks:
        output.say(f"  its disk {disk.name} {'goes' if args.with_disks else 'stays'}: {disk}, {disk.path.resolve()}")
    if on:
        output.say("It is still on: dacha apply stops it.")
    if args.with_disks and disks:
        output.say(
            f"Next: dacha apply deletes {'these disks' if disks[1:] else 'this disk'}; dacha diff shows it once more"
        )
    return 0
