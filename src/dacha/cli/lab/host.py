"""dacha host."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from dacha.cli.terminal import output
from dacha.core.errors import DachaError, UsageError


def host_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Show what this host has and lacks, and how much of it the lab has promised to its guests."


def run_host(args: argparse.Namespace) -> int:
    from dacha.core.plan.check import check_host, promised
    from dacha.core.units import show_size
    from dacha.engine.check.host import disk_growth, program_findings
    from dacha.engine.lab.kept_labs import leftovers
    from dacha.engine.workspace import load
    from dacha.host import accounts, confine, facts, folders
    from dacha.host.network import addresses
    from dacha.hypervisor import accelerator

    try:
        ws = load(args.lab)
    except UsageError:
        ws = None  # a host can be looked at without a lab
    stores = {"disks": ws.home.folder if ws else folders.state() / "labs", "demo": folders.cache()}
    stores |= {name: ws.resolve(path) for name, path in ws.lab.storages.items()} if ws else {}
    have = facts.facts(stores.values())
    try:
        choice = accelerator.choose(ws.lab.accelerator if ws else "auto")
    except DachaError as e:
        choice = accelerator.Choice("none", e.what)
    asked = promised(ws.lab) if ws else (0, 0, 0)
    growth = {str(folder): size for folder, size in disk_growth(ws).items()} if ws else {}
    have = have._replace(disk_free=have.disk_free | facts.facts(Path(f) for f in growth).disk_free)
    findings = program_findings() + (check_host(ws.lab, have, growth) if ws else [])
    left = leftovers()
    lan, users = addresses.lan_address(), accounts.users() if os.geteuid() == 0 else None
    protection = confine.here()
    if args.json:
        output.emit_json(
            {
                "cpus": have.cpus,
                "memory": have.memory,
                "memory_free": have.memory_free,
                "accelerator": choice.name,
                "accelerator_why": choice.why,
                "lan_address": str(lan) if lan else None,
                "stores": {
                    name: {"folder": str(path), "free": have.disk_free[str(path)]} for name, path in stores.items()
                },
                "promised": {"cpus": asked[0], "memory": asked[1], "disk": asked[2]} if ws else None,
                "guest_users": list(users) if users else None,
                "protection": {part.name: part.there for part in protection},
                "programs": {name: facts.program(name) for name, _, _ in facts.PROGRAMS},
                "left_over": [{"what": item.what, "remedy": item.remedy} for item in left],
                "findings": [output.finding_json("lab.toml", f) for f in findings],
            }
        )
    else:

        def against(amount: str) -> str:
            return f"{amount} promised by {ws.lab.name}" if ws else ""

        output.table(
            ("", "THIS HOST", "THE LAB"),
            [
                ("CPUs", str(have.cpus), against(str(asked[0]))),
                (
                    "memory",
                    f"{show_size(have.memory)}, {show_size(have.memory_free)} free",
                    against(show_size(asked[1])),
                ),
                *(
                    (
                        f"disk ({name})",
                        f"{show_size(have.disk_free[str(path)])} free in {path}",
                        f"may grow by {show_size(growth[str(path)])}" if str(path) in growth else "",
                    )
                    for name, path in stores.items()
                ),
                ("address", str(lan) if lan else "none on a LAN", ""),
            ],
        )
        output.say()
        output.say(f"{'accelerator':<19} {choice.name}: {choice.why}")
        if users:
            output.say(f"{'users of guests':<19} {users[0]}-{users[1]}: each guest runs as one of its own")
        for part in protection:
            if not part.there:
                output.say(f"{part.name:<19} missing: {part.without}")
        for name, _, purpose in facts.PROGRAMS:
            found = facts.program(name)
            output.say(f"{name:<19} {found}" if found else f"{name:<19} missing: it {purpose}")
        if left:
            output.say("\nLeft over:")
            for item in left:
                output.say(f"  {item.what}\n    {item.remedy}")
        if findings:
            output.say()
            output.show_findings("lab.toml", findings)
    return 1 if any(f.severity == "error" for f in findings) else 0
