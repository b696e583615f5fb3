"""dacha new, check, diff."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from dacha.cli.terminal import output
from dacha.core.errors import BadValue, UsageError
from dacha.core.findings import errors

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace

TEMPLATE = """\
# This file is the lab: dacha apply makes this host match it.
# Edit it by hand or with dacha guest, network and door; comments and order are kept.

[lab]
name = "{name}"

# A network: its guests reach other networks through this host (NAT); clients reach them through doors.
#   [network.inside]
#   kind = "nat"                    # nat | host-only | bridge
#   subnet = "10.77.4.0/24"         # if left out, a free subnet is chosen and written here
#
# A guest, its door, and who may log in:
#   [guest.gauge]
#   cpus = 2
#   memory = "1 GiB"
#   disk = [{{ from = "debian-12.qcow2", size = "8 GiB" }}]
#   adapter = [{{ network = "inside", address = "10.77.4.10" }}]
#   login = {{ user = "ops", keys = ["~/.ssh/id_ed25519.pub"] }}
#   door.ssh = {{ from = "host" }}    # host: from this host only; lan: also from the LAN
"""


def new_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Create a lab file, with comments that explain its contents."
    parser.add_argument("name", metavar="NAME", help="the lab's name: lower-case letters, digits and dashes")


def run_new(args: argparse.Namespace) -> int:
    from dacha.core.lab import fields
    from dacha.host import folders
    from dacha.host.files import replace_file

    try:
        name = fields.name(args.name)
    except BadValue as e:
        raise UsageError(e.what, remedy=e.remedy) from None
    path = folders.expand(args.lab or "lab.toml")
    if path.exists():
        raise UsageError(
            "a lab file already exists", where=str(path), why="nothing was changed", remedy="choose another: --lab FILE"
        )
    replace_file(path, TEMPLATE.format(name=name), follow=True)
    if args.json:
        output.emit_json({"lab": name, "file": str(path.absolute())})
    else:
        output.say(f"Wrote {path}, an empty lab named {name}.\nNext: dacha guest add NAME --from IMAGE")
    return 0


def check_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Check the lab file, and what it needs on this host.\n"
        "Exit code: 2 if the file has errors, 1 if only this host has, else 0."
    )
    parser.add_argument(
        "--untrusted",
        metavar="FILE",
        help="list every file, command, port and privilege that this lab file requests; nothing is applied",
    )


def _requests(args: argparse.Namespace) -> int:
    """What a lab file requests of this host."""
    from pathlib import Path

    from dacha.core.lab.table.read import read_lab
    from dacha.core.plan.requests import requests
    from dacha.engine.profiles import profiles
    from dacha.engine.workspace import locate, read_text

    path = Path(args.untrusted)
    text = read_text(path)
    reading = read_lab(text, profiles())
    asked = requests(reading.lab) if reading.lab else []
    findings = locate(path, text, list(reading.findings))
    code = 2 if errors(findings) else 0
    if args.json:
        output.emit_json(
            {
                "file": str(path),
                "lab": reading.lab.name if reading.lab else None,
                "errors": len(errors(findings)),
                "findings": [output.finding_json(path.name, f) for f in findings],
                "requests": [r._asdict() for r in asked],
            }
        )
        return code
    output.show_findings(path.name, findings)
    if asked:
        output.say(f"{path} requests the following of this host. Paths are relative to that file.\n")
        output.table(("WHAT", "FOR", "WHICH"), [tuple(r) for r in asked])
    elif reading.lab:
        output.say(f"{path} requests only CPU, memory and disk space of this host.")
    return code


def run_check(args: argparse.Namespace) -> int:
    if args.untrusted:
        return _requests(args)
    from dacha.core.lab.table.read import read_lab
    from dacha.engine.check.host import host_findings
    from dacha.engine.guest.observe import observe
    from dacha.engine.profiles import profiles
    from dacha.engine.workspace import Workspace, find_lab_file, locate, read_text

    path = find_lab_file(args.lab)
    text = read_text(path)
    reading = read_lab(text, profiles())
    findings = list(reading.findings)
    if reading.lab is not None:
        ws = Workspace(path, text, reading.lab, reading.findings)
        findings = ws.findings()
        if not reading.findings:
            findings += host_findings(ws, ws.plan, observe(ws.home, ws.lab.guests))
    findings = locate(path, text, findings)
    wrong = errors(findings)
    code = 2 if any(f.about == "lab" for f in wrong) else 1 if wrong else 0
    if args.json:
        output.emit_json(
            {
                "file": str(path),
                "lab": reading.lab.name if reading.lab else None,
                "errors": len(wrong),
                "findings": [output.finding_json(path.name, f) for f in findings],
            }
        )
        return code
    output.show_findings(path.name, findings)
    if findings:
        share = "no errors" if not wrong else f"{len(wrong)} of them {'an error' if len(wrong) == 1 else 'errors'}"
        output.say(f"{output.plural(len(findings), 'finding')}, {share}")
    else:
        assert reading.lab is not None
        output.say(
            f"{reading.lab.name}: {output.plural(len(reading.lab.guests), 'guest')}, "
            f"{output.plural(len(reading.lab.doors()), 'door')}, no problems found"
        )
    return code


def diff_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Show what apply would do, and change nothing.\nExit code 1 if apply would refuse something."
    as_of(parser, "compare with the lab file as it was applied then")


def as_of(parser: argparse.ArgumentParser, what: str) -> None:
    """The option of commands that take an earlier version of the lab file."""
    parser.add_argument("--as-of", metavar="TIME", help=f'{what}: "2 h" (ago), 14:30, "2026-11-30 14:30"')


def run_diff(args: argparse.Namespace) -> int:
    from dacha.cli import cutting
    from dacha.cli.words import note_other_file, waiting_words
    from dacha.core.apply.changes import LIVE, subject, when_of
    from dacha.engine.apply.pending import pending_changes
    from dacha.engine.check.refused import refused
    from dacha.engine.guest.machine_type import offers
    from dacha.engine.guest.observe import observe
    from dacha.engine.workspace import load, locate

    if args.as_of:
        from dacha.engine.log.versions import load_as_of

        ws, _ = load_as_of(args.lab, args.as_of)
    else:
        ws = load(args.lab)
    ws.refuse_if_wrong()
    note_other_file(ws)
    seen = observe(ws.home, ws.lab.guests)
    changes = pending_changes(ws, seen)
    found = refused(ws, seen) if any(when_of(c) == LIVE for c in changes) else None
    wrong = locate(ws.path, ws.text, found.all) if found else []
    if args.json:
        from dacha.cli.words import change_json

        output.emit_json(
            {
                "lab": ws.lab.name,
                "changes": [change_json(c) for c in changes],
                "refused": [output.finding_json(ws.path.name, f) for f in wrong],
                "newer_machine_types": [o._asdict() for o in offers(ws)],
            }
        )
        return 1 if wrong else 0
    if not changes:
        output.say(f"{ws.lab.name}: everything applied")
        _say_offers(ws)
        return 0
    unfit = set(found.guests) if found else set()
    able = [c for c in changes if c.guest not in unfit]
    for c in able:
        output.step(
            subject(c),
            str(c),
            "" if when_of(c) == LIVE else when_of(c),
        )
    live = sum(when_of(c) == LIVE for c in able)
    rest = [c for c in able if when_of(c) != LIVE]
    said = [f"dacha apply would make {output.plural(live, 'change')}"] if live else []
    said += [waiting_words(rest)] if rest else []
    cutting.warn(ws, "", able, seen)
    if found and wrong:
        whole = bool(found.lab) or len(unfit) == len(ws.lab.guests)
        whom = "the lab" if whole else ", ".join(sorted(unfit))
        said = [*([] if whole else said), f"dacha apply would refuse {whom}"]
    output.say("; ".join(said))
    _say_offers(ws)
    output.show_findings(ws.path.name, wrong)
    return 1 if wrong else 0


def _say_offers(ws: Workspace) -> None:
    """Newer hardware that QEMU offers, and what it costs to take it: nothing is changed unless the user says so."""
    from dacha.engine.guest.machine_type import COST, offers

    found = offers(ws)
    for has in dict.fromkeys(o.has for o in found):
        names = [o.guest for o in found if o.has == has]
        newest = next(o.newest for o in found)
        output.note(
            f"note: {' and '.join((', '.join(names[:-1]), names[-1]) if names[1:] else names)} "
            f"{'keep' if names[1:] else 'keeps'} the machine type {has}; QEMU here also offers {newest}\n"
            f"  {COST}\n  to change it: dacha guest edit {names[0]} --machine-type newest"
        )
