"""dacha media find, add, list, show, check, remove, insert, eject."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.commands import Action, nothing
from dacha.cli.media.chosen import store_of
from dacha.cli.media.drives import run_eject, run_insert
from dacha.cli.media.find import find_arguments, newer_words, run_find
from dacha.cli.media.from_guest import from_guest_arguments, run_from_guest
from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo, BadValue, HostError, UsageError

if TYPE_CHECKING:
    from dacha.engine.media.places import Place


def media_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = "Installer media and images, stored under short names, with what was found in them."


def _add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "source", metavar="SOURCE", nargs="?", help="a file, - (standard input), a URL, or a name in the catalogue"
    )
    from_guest_arguments(parser)
    parser.add_argument(
        "--from", dest="places", metavar="FILE.toml", help="file with download places; SOURCE is a name in it"
    )
    parser.add_argument("--name", metavar="NAME", help="its short name (default: from the file name)")
    parser.add_argument("--storage", metavar="STORAGE", default="main", help="storage for it (default: main)")
    parser.add_argument("--sha256", metavar="HEX", help="its expected checksum")
    parser.add_argument("--sums", metavar="FILE", help="list of checksums that includes this medium: a file or a URL")
    parser.add_argument("--signature", metavar="FILE", help="OpenPGP signature of the list: a file or a URL")
    parser.add_argument("--key", metavar="FILE", help="file with the public keys that the signature must match")


def _insert(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser)
    arguments.medium(parser)


def _eject(parser: argparse.ArgumentParser) -> None:
    arguments.guest(parser)
    arguments.medium(parser, optional=True, what="the drive (default: the last)")
    parser.add_argument(
        "--force", action="store_true", help="eject even if the guest has locked it; reads in progress fail"
    )


def _place(args: argparse.Namespace) -> tuple[Place, str]:
    """Where the medium comes from, and the entry of the catalogue or of the given file ("" for none); sets name and
    source from it."""
    from dacha.engine.media import catalogue
    from dacha.engine.media.places import Place, place_in
    from dacha.host import folders

    place = Place(args.source, args.sha256, args.sums, args.signature, args.key)
    file = args.places
    if not file and "/" not in args.source and not folders.expand(args.source).exists() and catalogue.has(args.source):
        file = str(catalogue.path())
    if not file:
        return place, ""
    if any(place[1:]):
        raise UsageError("the place in the file sets them", where=file, remedy="remove the other options")
    entry, place = args.source, catalogue.newest(place_in(file, args.source)).place
    args.name, args.source = args.name or entry, place.address
    return place, entry


def run_add(args: argparse.Namespace) -> int:
    from dacha.cli.terminal.progress import byte_bar
    from dacha.core.lab import fields
    from dacha.engine.media.media_facts import short_name
    from dacha.engine.media.places import expected_of

    if args.guest:
        return run_from_guest(args, _json)
    if args.source is None or args.as_it_is:
        raise UsageError(
            "no source given" if args.source is None else "--as-it-is is for images of guests",
            remedy="dacha media add SOURCE, or: dacha media add --from-guest GUEST",
        )
    store, _ = store_of(args)
    place, entry = _place(args)
    piped = args.source == "-"
    if piped and not args.name:
        raise UsageError("data from standard input needs a name", remedy="dacha media add - --name NAME")
    try:
        name = fields.name(args.name or short_name(args.source))
    except BadValue as e:
        raise UsageError(e.what, remedy=e.remedy) from None
    expected, signed = expected_of(place)
    if signed:
        output.note(f"Checksums: {signed}")
    if args.source.startswith("http://") and not expected:
        output.note(
            f"warning: {args.source} is downloaded without encryption and without a checksum: others on the path "
            "can replace it\n  add its checksum: --sha256 HEX, or use https://"
        )
    with byte_bar(name) as progress:
        if args.source.startswith(("http://", "https://")):
            from dacha.engine.media.fetch import add_from

            kept, new = add_from(
                store, args.source, name, storage=args.storage, expected=expected, progress=progress, place=entry
            )
        elif piped:
            kept, new = store.add(sys.stdin.buffer, name, storage=args.storage, expected=expected, progress=progress)
        else:
            kept, new = _add_file(store, args, name, expected, progress)
    if args.json:
        output.emit_json(_json(kept) | {"new": new})
    elif new:
        output.say(f"{kept.name}: {kept.words()}")
        output.say(
            f"Next: dacha guest add NAME --install {kept.name}"
            if kept.facts.get("kind") == "iso"
            else f"Next: dacha guest add NAME --from {kept.name}"
        )
    else:
        output.say(f"The same content is already stored as {kept.name}; nothing was added.")
    return 0


def _add_file(store: Any, args: argparse.Namespace, name: str, expected: str | None, progress: Any) -> Any:
    from dacha.host import folders

    path = folders.expand(args.source)
    try:
        with path.open("rb") as f:
            return store.add(
                f, name, storage=args.storage, size=path.stat().st_size, expected=expected, progress=progress
            )
    except IsADirectoryError:
        raise UsageError(f"{path} is a folder", remedy="specify the file in it") from None
    except FileNotFoundError:
        remedy = "specify a file, a URL, - or a name of: dacha media find"
        raise UsageError(f"the file {path} does not exist", remedy=remedy) from None
    except PermissionError as e:
        raise HostError(f"{path} is not readable", why=e.strerror or str(e)) from e


# Names of a medium's facts in answers: "version" is the answer's own version there.
_WORDS = {"version": "system_version", "virtual_size": "virtual_size_bytes"}


def _json(kept: Any) -> dict[str, Any]:
    facts = {_WORDS.get(key, key): value for key, value in kept.facts.items()}
    if "editions" in facts:
        facts["editions"] = [{"number": n, "edition": e, "name": name} for n, e, name in facts["editions"]]
    return {
        "name": kept.name,
        "storage": kept.storage,
        "file": str(kept.path),
        "size_bytes": kept.size,
        "sha256": kept.sha256,
        **facts,
    }


def run_list(args: argparse.Namespace) -> int:
    from dacha.core.units import show_size
    from dacha.host.facts import facts

    store, _ = store_of(args)
    kept = store.all()
    free = facts(store.folders.values()).disk_free
    if args.json:
        output.emit_json(
            {
                "media": [_json(k) for k in kept],
                "partial": [
                    {"name": p.name, "storage": p.storage, "size_bytes": p.size, "from": p.url} for p in store.partial()
                ],
                "storages": {n: {"folder": str(p), "free_bytes": free[str(p)]} for n, p in store.folders.items()},
            }
        )
        return 0
    if kept:
        output.table(
            ("MEDIUM", "STORAGE", "SIZE", "CONTENT"),
            [(k.name, k.storage, show_size(k.size), k.words()) for k in kept],
        )
    else:
        output.say("No media yet. Next: dacha media add FILE")
    for begun in store.partial():
        output.say(
            f"{begun.name}: {show_size(begun.size)} received from {begun.url or 'an unknown address'}\n"
            f"  to resume: the same dacha media add; to delete it: dacha media remove {begun.name}"
        )
    for name, path in store.folders.items():
        output.say(f"{name}: {show_size(free[str(path)])} free in {path}")
    return 0


def run_show(args: argparse.Namespace) -> int:
    from dacha.core.units import show_size

    store, ws = store_of(args)
    kept = store.need(args.name)
    if args.json:
        output.emit_json(_json(kept))
        return 0
    output.say(f"{kept.name}: {kept.words()}")
    for key in ("kind", "label", "family", "version", "architecture", "format", "table"):
        if key in kept.facts:
            output.step(key, str(kept.facts[key]) or "unknown")
    for index, edition, name in kept.facts.get("editions") or ():
        output.step(f"edition {index}", edition if name == edition else f"{edition} ({name})")
    output.step("size", show_size(kept.size))
    output.step("sha256", kept.sha256)
    output.step("file", str(kept.path))
    from dacha.engine.media.media_uses import uses

    for use in uses(kept, ws.lab if ws else None):
        output.step("used by", str(use))
    return 0


def run_check(args: argparse.Namespace) -> int:
    from dacha.cli.terminal.progress import byte_bar

    store, _ = store_of(args)
    kept = store.need(args.name)
    with byte_bar(kept.name) as progress:
        wrong = store.check(kept, progress)
    words, address = newer_words(kept) if wrong is None else ("", None)
    if args.json:
        output.emit_json({"name": kept.name, "ok": wrong is None, "what": wrong, "newer": address})
    elif wrong is None:
        output.say(f"{kept.name}: its content is unchanged")
        if words:
            output.say(words)
    if wrong:
        raise AnswerNo(f"{kept.name}: {wrong}", remedy="remove it, and add it again")
    return 0


def run_remove(args: argparse.Namespace) -> int:
    from dacha.engine.media.media_uses import uses

    store, ws = store_of(args)
    begun = next((p for p in store.partial() if p.name == args.name), None)
    if begun and store.find(args.name) is None:
        store.drop(begun)
        output.emit_json({"removed": args.name}) if args.json else output.say(
            f"The incomplete download {args.name} was deleted."
        )
        return 0
    kept = store.need(args.name)
    found = uses(kept, ws.lab if ws else None)
    if found:
        raise UsageError(
            f"{kept.name} stays: " + ("disks are based on it" if found[0].disk else "guests use it"),
            why="\n".join(map(str, found[:10])) + (f"\nand {len(found) - 10} more" if found[10:] else ""),
            remedy=_rid_of(found),
        )
    store.remove(kept)
    output.emit_json({"removed": kept.name}) if args.json else output.say(f"Medium {kept.name} was deleted.")
    return 0


def _rid_of(found: list[Any]) -> str:
    """How to end the uses of a medium."""
    if any(use.disk for use in found):
        return "these disks do not work without it; to delete them: dacha guest remove GUEST --with-disks"
    if all(use.drive for use in found):
        return "eject it there first: dacha media eject GUEST"
    return "use another medium there, or remove those guests: dacha guest remove GUEST"


ACTIONS = (
    Action(
        "find", "list the catalogue of places that media come from", "dacha media find debian", find_arguments,
        run_find,
    ),
    Action("add", "add a medium", "dacha media add debian-12.iso --sums SHA256SUMS", _add, run_add),
    Action("list", "list the media and the stores", "dacha media list", nothing, run_list),
    Action("show", "show details of a medium", "dacha media show debian-12", arguments.medium, run_show),
    Action(
        "check", "verify the checksum of a medium, and look for a newer one", "dacha media check debian-12",
        arguments.medium, run_check,
    ),
    Action(
        "remove", "remove a medium that no disk is based on, or an incomplete download",
        "dacha media remove debian-12", arguments.medium, run_remove,
    ),
    Action("insert", "insert a medium into a guest", "dacha media insert gauge drivers", _insert, run_insert),
    Action("eject", "eject a medium from a guest", "dacha media eject gauge", _eject, run_eject),
)  # fmt: skip
