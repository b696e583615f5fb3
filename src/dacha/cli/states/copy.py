"""dacha guest copy."""

from __future__ import annotations

import argparse

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.cli.words import contents_words, guest_json


def copy_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Add a guest with the contents of another one's disks, as they are now, whether that one runs or not. The\n"
        "copy has a name, addresses, hardware addresses, ports and a host key of its own. An image below both disks\n"
        "is shared."
    )
    arguments.guest(parser, "name", what="name of the original")
    parser.add_argument("new_name", metavar="NEW-NAME", help="name of the copy: lower-case letters, digits and dashes")
    parser.add_argument("--address", metavar="ADDRESS", help="address of its first adapter (default: a free one)")
    parser.add_argument("--whole", action="store_true", help="copy the image below, too: the copy needs no other file")


def run_copy(args: argparse.Namespace) -> int:
    from dacha.cli.terminal.progress import share_bar
    from dacha.core.units import show_size
    from dacha.engine.states.copying import copy_guest
    from dacha.engine.workspace import load

    ws = load(args.lab)
    ws.refuse_if_wrong()
    with ws.home.lock("guest copy", ws.path, lambda holder: output.note(f"waiting for {holder}")), share_bar() as bar:
        made = copy_guest(
            args.lab, load(args.lab), args.name, args.new_name, address=args.address, whole=args.whole, progress=bar
        )
    ws, guest = made.ws, made.ws.lab.guests[args.new_name]
    if args.json:
        output.emit_json(guest_json(ws, guest))
        return 0
    output.say(f"{ws.path.name} now has")
    output.step(f"guest {guest.name}", f"a copy of {args.name}")
    for name, size in made.disks.items():
        output.step(f"disk {name}", f"{show_size(size)} copied")
    for adapter in ws.plan.adapters_of(guest.name):
        address = adapter.address or "an address by DHCP"
        output.step("adapter", f"{address} on {adapter.network}, {adapter.hardware_address}")
    if made.frozen is not None:
        output.step("contents", contents_words(args.name, frozen=made.frozen))
    if guest.first_boot:
        output.step("identity", "its first boot runs again: another name, another host key")
    else:
        output.note(
            f"warning: the system of {guest.name} keeps the name and the host keys of {args.name}, as it reads no "
            f"first-boot data\n  change them in the guest, then: dacha guest host-key {guest.name} --accept"
        )
    hints = {
        "screen": "set another port in the lab file",
        "usb": f"add one: dacha guest edit {guest.name} --add-usb DEVICE",
    }
    for key in made.omitted:
        output.step(key, f"not copied, as only one guest can have it; {hints[key]}")
    output.say("Next: dacha apply")
    return 0
