"""dacha guest load of a machine that another program exported (OVF, OVA), and guest save for other programs."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli.terminal import output
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from dacha.core.archive.appliance import Appliance


def run_load_appliance(args: argparse.Namespace) -> int:
    from dacha.cli.terminal.progress import share_bar
    from dacha.cli.words import guest_words
    from dacha.engine.archive.appliance import described, load_appliance
    from dacha.engine.workspace import load
    from dacha.host import folders

    if args.check:
        _show(args, *described(args.file))
        return 0
    ws = load(args.lab)
    ws.refuse_if_wrong()
    path = folders.expand(args.file)
    if not path.is_file():
        raise UsageError(f"{args.file} does not exist", remedy="use the path of a package (.ova or .ovf)")
    with (
        ws.home.lock("guest load", ws.path, lambda holder: output.note(f"waiting for {holder}")),
        share_bar() as bar,
    ):
        made = load_appliance(args.lab, load(args.lab), path, args.new_name, network=args.network, progress=bar)
    if args.json:
        output.emit_json(_json(made.appliance, made.compared) | {"guest": made.guest})
        return 0
    output.say(f"{made.ws.path.name} now has")
    output.step(f"guest {made.guest}", guest_words(made.ws.lab.guests[made.guest]))
    for adapter in made.ws.plan.adapters_of(made.guest):
        output.step("adapter", f"{adapter.address or 'an address by DHCP'} on {adapter.network}")
    if not made.compared:
        output.note("note: the package has no checksums: nothing shows whether it is complete")
    output.say(f"Next: dacha apply, then dacha guest adopt {made.guest} --user USER: nothing says yet who may log in")
    return 0


def run_save_appliance(args: argparse.Namespace) -> int:
    import platform

    from dacha.cli.states.holding import held
    from dacha.cli.terminal.progress import share_bar
    from dacha.cli.words import contents_words
    from dacha.core.units import show_size
    from dacha.engine.archive.exporting import export
    from dacha.engine.archive.saving import new_archive
    from dacha.engine.workspace import load

    if args.with_keys:
        raise UsageError("an OVF package cannot contain the SSH host key", remedy="leave out --with-keys")
    if not args.file.lower().endswith(".ova"):
        raise UsageError(
            "a package is saved in one file, whose name ends in .ova", remedy=f"dacha guest save {args.name} FILE.ova"
        )
    ws = load(args.lab)
    with share_bar() as bar, new_archive(args.file) as out:
        made = export(ws, args.name, out, progress=bar, lock=held(ws))
    if args.json:
        disks = zip(made.machine.disks, made.lengths, strict=True)
        output.emit_json({
            "guest": args.name, "lab": ws.lab.name, "at": output.moment(made.at), "architecture": platform.machine(),
            "running": made.running, "frozen": made.frozen, "size_bytes": made.length,
            "disks": [{"name": d.file, "size_bytes": d.size, "length_bytes": n} for d, n in disks],
        })  # fmt: skip
        return 0
    output.step(f"guest {args.name}", f"saved to {args.file}, an OVF package: {show_size(made.length)}")
    if made.running:
        output.step("contents", contents_words(args.name, frozen=made.frozen))
    output.step("not included", "its login, doors and shares, and what else only Dacha knows")
    for words in made.omitted:
        output.note(f"note: {words}")
    output.say(f"Next: dacha guest load {args.file} --check")
    return 0


def _show(args: argparse.Namespace, machine: Appliance, compared: bool) -> None:
    from dacha.core.units import exact_size

    if args.json:
        output.emit_json(_json(machine, compared))
        return
    whole = "its checksums are correct" if compared else "it has no checksums"
    output.say(f"An OVF package with the machine {machine.name}: {whole}")
    output.step("system", f"{machine.system}, {machine.firmware.upper()}")
    output.step("size", f"{output.plural(machine.cpus, 'virtual CPU')}, {exact_size(machine.memory)}")
    for n, disk in enumerate(machine.disks):
        output.step(f"disk {n}", f"{exact_size(disk.size)}, {disk.file or 'empty'}")
    for n, model in enumerate(machine.adapters):
        output.step(f"adapter {n}", model)


def _json(machine: Appliance, compared: bool) -> dict[str, Any]:
    return {
        "guest": machine.name, "system": machine.system, "cpus": machine.cpus, "memory_bytes": machine.memory,
        "firmware": machine.firmware, "compared": compared, "adapters": list(machine.adapters),
        "disks": [{"name": d.file, "size_bytes": d.size} for d in machine.disks],
    }  # fmt: skip
