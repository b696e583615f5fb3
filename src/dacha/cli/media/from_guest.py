"""dacha media add --from-guest: an image of a guest's disk, for new guests."""

from __future__ import annotations

import argparse
import shlex
from typing import Any

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.cli.words import contents_words
from dacha.core.errors import BadValue, UsageError


def from_guest_arguments(parser: argparse.ArgumentParser) -> None:
    arguments.guest_option(
        parser, "--from-guest", "store an image of the first disk of this guest, without its keys, passwords and logs"
    )
    parser.add_argument(
        "--as-it-is", action="store_true", help="with --from-guest: remove nothing from the image"
    )  # fmt: skip


def run_from_guest(args: argparse.Namespace, as_json: Any) -> int:
    """Store an image of a guest; `as_json` makes a medium's answer."""
    from dacha.cli.terminal.progress import share_bar
    from dacha.core.lab import fields
    from dacha.core.units import show_size
    from dacha.engine.archive.image import store_image
    from dacha.engine.workspace import load

    if args.source or args.places or args.sha256 or args.sums or args.signature or args.key:
        raise UsageError("--from-guest is a source of its own", remedy="remove the other source and its checksums")
    try:
        name = fields.name(args.name or f"{args.guest}-image")
    except BadValue as e:
        raise UsageError(e.what, remedy=e.remedy) from None
    ws = load(args.lab)
    ws.refuse_if_wrong()
    with ws.home.lock("media add", ws.path, lambda holder: output.note(f"waiting for {holder}")), share_bar() as bar:
        made = store_image(
            load(args.lab), args.guest, name, storage=args.storage, as_it_is=args.as_it_is, progress=bar
        )  # fmt: skip
    kept, cleaned = made.kept, made.cleaned
    if args.json:
        told = None if cleaned is None else {
            "removed": list(cleaned.removed), "left": [{"what": w, "why": y} for w, y in cleaned.left]
        }  # fmt: skip
        output.emit_json(as_json(kept) | {"new": True, "cleaned": told})
        return 0
    output.say(f"{kept.name}: {kept.words()}, from {args.guest}")
    output.step("file", f"{show_size(kept.size)}, compressed")
    if made.frozen is not None:
        output.step("contents", contents_words(args.guest, frozen=made.frozen))
    for what in cleaned.removed if cleaned else ():
        output.step("removed", what)
    for what, why in cleaned.left if cleaned else ():
        output.step("still there", f"{what}: {why}")
    if cleaned is None:
        output.note(f"warning: the image has the identity of {args.guest}: its keys, its passwords, its machine-id")
    if made.omitted:
        output.step("not included", ", ".join(f"disk {disk}" for disk in made.omitted))
    options = "".join(f" --{key} {shlex.quote(value)}" for key, value in made.needs)
    output.say(f"Next: dacha guest add NAME --from {kept.name}{options}")
    return 0
