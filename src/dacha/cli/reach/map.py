"""dacha map."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import Any

from dacha.cli.terminal import output
from dacha.core.errors import HostError, UsageError


def map_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Draw the lab: its networks and guests, their addresses, and every door with its origin."
    parser.add_argument("--save", metavar="FILE", help="write it to a file: .svg or .png")


def run_map(args: argparse.Namespace) -> int:
    from dacha.core.reach.map import outline
    from dacha.core.router.mapping import UNKNOWN
    from dacha.engine.network.live import live_plan
    from dacha.engine.router import mappings
    from dacha.engine.workspace import load
    from dacha.host.network.addresses import lan_address

    ws = load(args.lab)
    ws.refuse_if_wrong()
    lan = lan_address()
    known = mappings.read(ws.home) if mappings.uses_router(ws) else UNKNOWN
    bands = outline(ws.lab, live_plan(ws), lan, known, time.time())
    if args.save:
        path = _save(args.save, ws.lab.name, bands, str(lan) if lan else "no address on a LAN")
        if args.json:
            output.emit_json({"picture": str(path)})
        else:
            output.say(f"Saved {path}.")
    elif args.json:
        output.emit_json(
            {"lab": ws.lab.name, "lan_address": str(lan) if lan else None, "networks": [_json(b) for b in bands]}
        )
    else:
        _print(ws.lab.name, bands, str(lan) if lan else "none on a LAN")
    return 0


def _save(written: str, name: str, bands: list[Any], host: str) -> Path:
    from dacha.host import folders
    from dacha.host.files import replace_file

    path = folders.expand(written).absolute()
    kind = path.suffix.lower()
    if kind not in (".svg", ".png"):
        raise UsageError(f"{written} does not end in .svg or .png", remedy="choose a name such as: --save lab.svg")
    if not path.parent.is_dir():
        raise HostError(f"the folder {path.parent} does not exist", remedy="create it, or save to another folder")
    if kind == ".svg":
        from dacha.formats.map_svg import svg

        replace_file(path, svg(name, bands, host))
        return path
    from dacha.formats.map_png import png

    try:
        replace_file(path, png(name, bands, host))
    except ImportError:
        raise HostError(
            "PNG output requires Pillow, which is not installed",
            remedy=f"save it as SVG: --save {path.with_suffix('.svg').name}\nor: pip install 'dacha[png]'",
        ) from None
    return path


def _print(name: str, bands: list[Any], host: str) -> None:
    output.say(f"{name}   outside ─── LAN ─── this host ({host})")
    if not bands:
        output.say("No networks yet. Next: dacha guest add NAME --from IMAGE")
    for band in bands:
        mark = "═══" if band.on_lan else "───" if band.way_out else "   "
        output.say()
        output.say(
            f"{mark} {output.paint(band.name or 'no network', output.STRONG)}{'  ' + band.words if band.name else ''}"
        )
        width = max((len(p.guest) for p in band.places), default=0)
        addresses = max((len(p.address) for p in band.places), default=0)
        for n, place in enumerate(band.places):
            last = n == len(band.places) - 1
            first = f"    {'└' if last else '├'}─ {place.guest:<{width}}  {place.address:<{addresses}}"
            ways = [_way(e) for e in place.entries]
            output.say(f"{first}  {ways[0] if ways else ''}".rstrip())
            for way in ways[1:]:
                output.say(f"    {' ' if last else '│'}  {'':<{width}}  {'':<{addresses}}  {way}")


def _way(entry: Any) -> str:
    """outside 203.0.113.7:2210 → 192.0.2.10:2210 → ssh 22"""
    from dacha.core.reach.map import BY_HAND, NOT_LED_IN

    origin = "LAN" if entry.origin == "lan" else entry.origin
    router = f"({entry.router}) → " if entry.router in (NOT_LED_IN, BY_HAND) else f"{entry.router} → "
    return f"{origin} {router if entry.router else ''}{entry.at} → {entry.to}"


def _door(entry: Any) -> dict[str, Any]:
    """A door on the map; `leads_to` is its name and the guest's port."""
    known = None if isinstance(entry.router, str) else entry.router
    outside = output.place_json(known) if entry.router else None
    return {"from": entry.origin, **output.place_json(entry.at), "leads_to": entry.to, "outside": outside}


def _json(band: Any) -> dict[str, Any]:
    return {
        "network": band.name or None,
        "words": band.words,
        "way_out": band.way_out,
        "on_lan": band.on_lan,
        "guests": [
            {"guest": p.guest, "address": p.address or None, "doors": [_door(e) for e in p.entries]}
            for p in band.places
        ],
    }
