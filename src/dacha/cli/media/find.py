"""dacha media find: the catalogue of places; media that come from it when they are needed."""

from __future__ import annotations

import argparse
from typing import Any
from urllib.parse import urlsplit

from dacha.cli.media.chosen import store_of
from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo, DachaError


def find_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "word",
        metavar="WORD",
        nargs="?",
        default="",
        help="only entries with this word",
    )
    parser.add_argument("--example", action="store_true", help="print an example of a catalogue, to edit and save")


def run_find(args: argparse.Namespace) -> int:
    """List the entries of the catalogue; exit code 1 if none fits."""
    from dacha.engine.media import catalogue

    if args.example:
        text = catalogue.example()
        example = {"file": str(catalogue.path()), "places": [], "text": text.splitlines()}
        output.emit_json(example) if args.json else output.say(text.rstrip())
        return 0
    found = catalogue.entries(store_of(args)[0], args.word)
    if args.json:
        rows = [{"name": e.name, "about": e.about, "from": e.address, "stored": e.stored is not None} for e in found]
        output.emit_json({"file": str(catalogue.path()), "places": rows})
        return 0 if found else 1
    if not found:
        exists = catalogue.path().exists()
        what = f"no entry of {catalogue.path()} contains {args.word}" if exists else "there is no catalogue of places"
        remedy = "list all: dacha media find" if exists else _begin()
        raise AnswerNo(what, remedy=remedy)
    output.table(
        ("NAME", "STORED", "DESCRIPTION", "FROM"),
        [
            (e.name, "yes" if e.stored else "no", e.about or "-", urlsplit(e.address).hostname or e.address)
            for e in found
        ],
    )
    output.say("To use one: dacha guest add GUEST --from NAME, or --install NAME; it is downloaded and verified then.")
    return 0


def _host(address: str) -> str:
    return urlsplit(address).hostname or address


def _begin() -> str:
    from dacha.engine.media import catalogue

    path = catalogue.path()
    return f"create one: mkdir -p {path.parent}; dacha media find --example > {path}, and edit it"


def fetch_named(args: argparse.Namespace, *names: str | None) -> None:
    """Download what a new guest needs from the catalogue, unless it is stored, or a file of that name exists. Raises
    AnswerNo, UsageError."""
    from dacha.cli.terminal.progress import byte_bar
    from dacha.engine.media import catalogue
    from dacha.host import folders

    for name in names:
        if not name or "/" in name or folders.expand(name).exists() or not catalogue.has(name):
            continue
        store = store_of(args)[0]
        if store.find(name):
            continue
        with byte_bar(name) as progress:
            kept, signer = catalogue.obtain(store, name, progress)
        if signer:
            output.note(f"Checksums: {signer}")
        if not args.json:
            output.say(f"Downloaded {kept.name}: {kept.words()}")


def newer_words(kept: Any) -> tuple[str, str | None]:
    """What the place of a stored medium offers now, in a line ("" for nothing to say), and the address of a newer
    file."""
    from dacha.engine.media import catalogue

    try:
        found = catalogue.newer(kept)
    except DachaError as e:
        return f"whether a newer one is published is unknown: {catalogue.why_unknown(e)}", None
    if found is None:
        return "", None
    address, name = found
    return f"a newer file is published: {address}\n  to store it: dacha media add {kept.place} --name {name}", address
