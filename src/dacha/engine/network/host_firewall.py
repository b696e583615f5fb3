"""Rules for the lab in this host's own firewall, on request, and their removal: each is recorded, so that only those
are ever removed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from dacha.core.apply.changes import Change, CloseFirewall, OpenFirewall
from dacha.core.errors import HostError
from dacha.core.findings import NOTE, WARNING, Finding
from dacha.core.network.firewall.openings import NFT, OWN, Opening, Traffic, commands, comment, flows, openings
from dacha.core.plan.plan import Plan
from dacha.engine.network import live
from dacha.engine.workspace import Workspace
from dacha.host.bounded import run_bounded
from dacha.host.facts import program
from dacha.host.network import addresses, nft
from dacha.host.records import DAMAGED, read_record, write_record

VERSION = 1
# Firewall managers reload all their rules for each change; a busy machine needs time.
COMMAND_S = 60.0


def needed(ws: Workspace, plan: Plan) -> list[Opening]:
    """What the lab needs and other programs' rules certainly drop now; nothing if those are not readable."""
    wanted = list(flows(ws.lab, live.started(ws, plan)))
    listing = nft.listing(OWN) if wanted else None
    return openings(listing, iter(wanted), addresses.lan_interface() or "") if listing else []


def noted(ws: Workspace) -> list[Opening]:
    """The recorded rules."""
    kept = read_record(ws.home.firewall_note, VERSION).get("open")
    try:
        return [Opening(**{**o, "flow": Traffic(**o["flow"])}) for o in kept or ()]
    except DAMAGED:
        return []


def difference(ws: Workspace, plan: Plan) -> list[Change]:
    """The rules to add and to remove."""
    had = noted(ws)
    if not (ws.lab.open_firewall or had):
        return []
    wanted = set(flows(ws.lab, live.started(ws, plan))) if ws.lab.open_firewall else set()
    gone = tuple(o for o in had if o.flow not in wanted)
    come = tuple(needed(ws, plan)) if wanted else ()
    changes: list[Change] = [OpenFirewall(come)] if come else []
    return [*changes, *([CloseFirewall(gone)] if gone else [])]


def open_for(ws: Workspace, come: Iterable[Opening]) -> None:
    """Add rules, each recorded first. Raises HostError with the program's messages."""
    for opening in come:
        had = [o for o in noted(ws) if o.flow != opening.flow]
        _note(ws, [*had, opening])
        for argv in commands(ws.lab.name, opening, "add"):
            _run(argv)


def shut_behind(ws: Workspace, gone: Sequence[Opening]) -> None:
    """Remove rules that were added; a missing one is no error. Raises HostError."""
    listing = nft.listing(OWN) if any(o.owner == NFT for o in gone) else None
    stays = [argv for o in noted(ws) if o not in gone for argv in commands(ws.lab.name, o, "remove")]
    for opening in gone:
        said = comment(ws.lab.name, opening.flow)
        for argv in commands(ws.lab.name, opening, "remove"):
            if argv not in stays:  # several openings may share one rule: it is removed with the last of them
                _run(argv, may_fail=True)
        for handle in _handles(listing, opening, said) if opening.owner == NFT else ():
            where = [opening.family, opening.table, opening.chain]
            _run(["nft", "delete", "rule", *where, "handle", str(handle)], may_fail=True)
        _note(ws, [o for o in noted(ws) if o != opening])


def _handles(listing: dict[str, Any] | None, opening: Opening, said: str) -> list[int]:
    rules = [e["rule"] for e in (listing or {}).get("nftables", ()) if "rule" in e]
    place = (opening.family, opening.table, opening.chain)
    return [r["handle"] for r in rules if r.get("comment") == said and (r["family"], r["table"], r["chain"]) == place]


def _note(ws: Workspace, there: Sequence[Opening]) -> None:
    if there:
        kept = [{**o._asdict(), "flow": o.flow._asdict()} for o in there]
        write_record(ws.home.firewall_note, VERSION, {"open": kept})
    else:
        ws.home.firewall_note.unlink(missing_ok=True)


def _run(argv: list[str], *, may_fail: bool = False) -> None:
    found = program(argv[0])
    if not found:
        if may_fail:
            return  # its firewall was uninstalled, and the rule with it
        raise HostError(
            f"{argv[0]} is not installed, but its rules are present", remedy="install it again, or remove its rules"
        )
    done = run_bounded([found, *argv[1:]], COMMAND_S)
    if done.code != 0 and not may_fail:
        last = done.text.strip().splitlines() or ["it did not finish"]
        raise HostError(
            f"{argv[0]} did not add the lab's rule", why=last[-1], remedy=f"try it by hand: {' '.join(argv)}"
        )


def findings(ws: Workspace, plan: Plan) -> list[Finding]:
    """What this host's firewall blocks of the lab, and what the lab has opened in it."""
    if ws.lab.open_firewall:
        what = "this host's own firewall allows the lab's traffic, one narrow rule for each door"
        remedy = "without open-firewall, apply removes those rules"
        return [Finding(NOTE, "open-firewall", "lab", what, remedy, ("lab", "open-firewall"), "host")]
    shut = needed(ws, plan)
    if not shut:
        return []
    owners = ", ".join(dict.fromkeys(o.owner for o in shut))
    about = list(dict.fromkeys(o.flow.about for o in shut))
    few = ", ".join(about[:4]) + (f" and {len(about) - 4} more" if about[4:] else "")
    what = f"this host's own firewall ({owners}) blocks traffic that the lab needs: {few}"
    remedy = (
        f"dacha apply --open-firewall adds one narrow rule for each, marked {ws.lab.name}, and removes it with the door"
    )
    return [Finding(WARNING, "host-firewall", "this host", what, remedy, (), "host")]
