"""dacha guest add, edit, remove, list, show."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.arguments import many
from dacha.cli.commands import Action, nothing
from dacha.cli.guest import adopt, answers, check, leaving, options, passphrase, password, trust, update
from dacha.cli.guest.keys import make_key, unmade
from dacha.cli.guest.listing import emit_guest, run_list, run_show
from dacha.cli.states import archive, archives, compact, copy
from dacha.cli.terminal import output

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


def guest_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Guests of the lab. add, edit and remove change lab.toml only; run dacha apply afterwards."


def _add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="name of the guest: lower-case letters, digits and dashes")
    parser.add_argument(
        "--from", dest="image", metavar="IMAGE", help="the image that its disk is based on; Dacha never writes to it"
    )
    parser.add_argument(
        "--install", metavar="MEDIUM", help="install from this medium at the first start (network: over its network)"
    )
    parser.add_argument("--with", dest="beside", metavar="MEDIUM", help="with --install: a second medium")
    parser.add_argument(
        "--attach", metavar="DISK", nargs="+", default=[], help="use the disks of an earlier guest of this name"
    )
    parser.add_argument("--new-disk", action="store_true", help="create a new disk, and keep those of an earlier guest")
    parser.add_argument("--copy", action="store_true", help="with --from: copy the image instead of building on it")
    parser.add_argument("--bus", metavar="BUS", help="bus of its disk: virtio, sata, scsi, nvme")
    parser.add_argument("--allocation", metavar="thin|full", help="disk allocation (default: thin)")
    parser.add_argument("--storage", metavar="STORAGE", help="store its disk in this storage of the lab")
    parser.add_argument(
        "--passphrase", metavar="SOURCE", help="encrypt its disk; its passphrase is: ask, a file, or credential:NAME"
    )
    parser.add_argument(
        "--disk", metavar="SIZE", help="size of the disk (default: usual for its system, or that of the image)"
    )
    parser.add_argument(
        "--network", metavar="NETWORK", help="its network (default: the first; created if there is none)"
    )
    many(parser, "--door", "doors", "SERVICE[=PLACE]", "add a door: ssh (from this host), rdp=lan, http=outside")
    options.shared(parser)
    options.adapter_values(parser, "")


def _edit(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, "name")
    options.shared(parser)
    many(parser, "--adapter", "add_adapters", "NETWORK", "add an adapter on this network")
    many(parser, "--remove-adapter", "remove_adapters", "NETWORK", "remove its adapter on this network")
    options.adapter_values(parser, "[NETWORK=]")
    parser.add_argument(
        "--from", dest="image", metavar="IMAGE", help="the image of its first disk, if it does not exist yet"
    )
    many(parser, "--disk", "disks", "[DISK=]SIZE", "grow its first disk, or DISK, to this size, also while it runs")
    many(
        parser,
        "--move-disk",
        "move_disks",
        "[DISK=]STORAGE",
        "move its first disk, or DISK, to a storage or to none",
    )
    many(parser, "--add-disk", "add_disks", "SIZE", "add an empty disk")
    many(parser, "--detach-disk", "detach_disks", "DISK", "detach a disk; its contents are kept")
    many(parser, "--attach-disk", "attach_disks", "DISK", "attach a disk that was kept")
    many(parser, "--add-drive", "add_drives", "MEDIUM", "add a drive with this medium")
    many(parser, "--remove-drive", "remove_drives", "MEDIUM", "remove the drive with this medium")
    many(parser, "--add-usb", "add_usb", "DEVICE", "give it a USB device of this host: 1209:2303, or port 1-4.2")
    many(parser, "--remove-usb", "remove_usb", "DEVICE", "take a USB device away from it")
    arguments.unset(parser)


def _show(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser, "name")


def _of(made: Any, args: argparse.Namespace) -> Any:
    """A tuple of this type, each field from the option with that name."""
    found = {field: getattr(args, field) for field in made._fields if hasattr(args, field)}
    return made(**{field: tuple(v) if isinstance(v, list) else v for field, v in found.items()})


def run_add(args: argparse.Namespace) -> int:
    from dacha.cli.media.find import fetch_named
    from dacha.core.lab.text.edits import Edit
    from dacha.engine.check.named_files import ANYWAY, judge_of
    from dacha.engine.disks import kept_disks
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.guest_values import AdapterValues, Values
    from dacha.engine.lab.new_guest import NewGuest, new_guest
    from dacha.engine.workspace import load

    before: set[str] = set()
    fetch_named(args, args.image, args.install, args.beside)

    def decide(ws: Workspace) -> list[Edit]:
        before.update(ws.lab.networks)
        make_key(ws, args)
        return new_guest(ws, _of(NewGuest, args), _of(Values, args), _of(AdapterValues, args))

    with unmade(args):
        judge = (lambda ws: []) if args.anyway else judge_of(load(args.lab), args.name)
        ws = edit_lab(args.lab, decide, judge, ANYWAY)
    if (args.attach or args.new_disk) and ws.home.guest(args.name).is_dir():
        kept_disks.take(ws.home, args.name)
    if args.json:
        emit_guest(ws, args.name)
    else:
        _say_added(ws, ws.lab.guests[args.name], before)
    return 0


def _say_added(ws: Workspace, guest: Any, before: set[str]) -> None:
    """Print the new guest's part of the lab file, and the next step; `before` are the networks that existed."""
    from dacha.cli.guest.missing import say_installer, say_missing
    from dacha.cli.words import door_words, guest_words, network_words

    output.say(f"{ws.path.name} now has")
    output.step(f"guest {guest.name}", guest_words(guest))
    for adapter in ws.plan.adapters_of(guest.name):
        if adapter.network not in before:
            output.step(f"network {adapter.network}", network_words(ws, adapter.network))
        addresses = [str(a) for a in (adapter.address or "by DHCP", adapter.address6) if a]
        output.step("address", f"{', '.join(addresses)} on {adapter.network}")
    for door in guest.doors:
        output.step(f"door {guest.name} {door.name}", door_words(ws.plan.doors[guest.name, door.name]))
    if guest.login and guest.login.keys:
        output.step("login", f"{guest.login.user}, with {', '.join(guest.login.keys)}")
    elif guest.login:
        output.step("login", f"{guest.login.user}, without a key: add one with --key")
    else:
        output.step("login", f"none: dacha guest edit {guest.name} --make-key (or --user NAME --key FILE.pub)")
    say_missing(ws, guest.name)
    say_installer(ws, guest)
    service = "rdp" if guest.system == "windows" else "ssh"
    first = "" if guest.doors else f"dacha door add {guest.name} {service} --from host, then "
    output.say(f"Next: {first}dacha apply")


def run_edit(args: argparse.Namespace) -> int:
    from dacha.cli.guest.missing import say_missing
    from dacha.cli.words import guest_words
    from dacha.core.lab.text.edits import Edit
    from dacha.engine.check.named_files import ANYWAY, judge_of
    from dacha.engine.disks import kept_disks
    from dacha.engine.lab.edit import edit_lab
    from dacha.engine.lab.guest_edits import GuestChange, guest_edits, retaken_disks
    from dacha.engine.lab.guest_values import AdapterValues, Values
    from dacha.engine.workspace import load

    retaken: list[str] = []

    def decide(ws: Workspace) -> list[Edit]:
        make_key(ws, args)
        asked = _of(GuestChange, args)
        retaken.extend(retaken_disks(ws, asked))
        return guest_edits(ws, asked, _of(Values, args), _of(AdapterValues, args))

    with unmade(args):
        judge = (lambda ws: []) if args.anyway else judge_of(load(args.lab), args.name)
        ws = edit_lab(args.lab, decide, judge, ANYWAY)
    if retaken:
        kept_disks.take(ws.home, args.name)
    if args.json:
        emit_guest(ws, args.name)
        return 0
    for disk in retaken:
        output.say(f"{args.name} uses the existing disk {disk}.")
    output.say(f"{ws.path.name} now has")
    output.step(f"guest {args.name}", guest_words(ws.lab.guests[args.name]))
    for a in ws.plan.adapters_of(args.name):
        addresses = [str(x) for x in (a.address or "by DHCP", a.address6) if x]
        output.step("address", f"{', '.join(addresses)} on {a.network}")
    login = ws.lab.guests[args.name].login
    if login and (args.keys or args.user):
        output.step("login", f"{login.user}, with {', '.join(login.keys) or 'no key'}; dacha apply installs its keys")
    say_missing(ws, args.name)
    output.say("Next: dacha diff shows what this changes on the host, dacha apply carries it out")
    return 0


ACTIONS = (
    Action(
        "adopt", "take over a machine that exists, with one password",
        "dacha guest adopt desk --from desk.qcow2 --user kim",
        adopt.adopt_arguments, adopt.run_adopt,
    ),
    Action("add", "add a guest", "dacha guest add gauge --from debian-12.qcow2 --memory 1GiB", _add, run_add),
    Action("edit", "change a guest", "dacha guest edit gauge --memory 2GiB", _edit, run_edit),
    Action(
        "update", "install the pending updates of guests, or count them", "dacha guest update --all --check",
        update.update_arguments, update.run_update,
    ),
    Action(
        "compact", "free the space of this host that guests no longer use", "dacha guest compact --all",
        compact.compact_arguments, compact.run_compact,
    ),
    Action(
        "remove", "remove a guest; its disks are kept", "dacha guest remove gauge",
        leaving.remove_arguments, leaving.run_remove,
    ),
    Action(
        "copy", "create a guest with a copy of another guest's disks", "dacha guest copy gauge heron",
        copy.copy_arguments, copy.run_copy,
    ),
    Action(
        "save", "save a guest to one file", "dacha guest save gauge gauge.guest",
        archive.save_arguments, archive.run_save,
    ),
    Action(
        "load", "load a guest from a file that guest save wrote", "dacha guest load gauge.guest heron",
        archive.load_arguments, archive.run_load,
    ),
    Action(
        "archives", "list the archives of a schedule, or make those that are due", "dacha guest archives --make",
        archives.archives_arguments, archives.run_archives,
    ),
    Action(
        "rename", "rename a guest that is off", "dacha guest rename gauge tides",
        leaving.rename_arguments, leaving.run_rename,
    ),
    Action(
        "password", "set a user's password in a guest, for its console and remote desktop",
        "dacha guest password gauge", password.password_arguments, password.run_password,
    ),
    Action(
        "passphrase", "change the passphrase of an encrypted disk", "dacha guest passphrase gauge",
        passphrase.passphrase_arguments, passphrase.run_passphrase,
    ),
    Action(
        "first-boot", "show a guest's first-boot data; apply it again",
        "dacha guest first-boot gauge --again", trust.first_boot_arguments, trust.run_first_boot,
    ),
    Action(
        "host-key", "compare a guest's host key with the trusted one; accept it; renew it",
        "dacha guest host-key gauge", trust.host_key_arguments, trust.run_host_key,
    ),
    Action(
        "answers", "show the answer file for a guest's installer",
        "dacha guest answers gauge", answers.answers_arguments, answers.run_answers,
    ),
    Action(
        "check", "check the settings of a running guest",
        "dacha guest check gauge", check.check_arguments, check.run_check,
    ),
    Action("list", "list the guests", "dacha guest list", nothing, run_list),
    Action("show", "show one guest, and the source of each value", "dacha guest show gauge", _show, run_show),
)  # fmt: skip
