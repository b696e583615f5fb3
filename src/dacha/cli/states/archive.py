"""dacha guest save and load: a guest in one file."""

from __future__ import annotations

import argparse
import contextlib
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, BinaryIO

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.cli.words import contents_words, door_words
from dacha.core.errors import UsageError

if TYPE_CHECKING:
    from pathlib import Path

PIPE = "-"


def save_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Save a guest to one file, whether it runs or not: its table of the lab file and its disks as they are now,\n"
        "compressed and checksummed. With FILE - it is written to standard output, such as into ssh. If FILE ends in\n"
        ".ova, it is an OVF package for other programs: the virtual hardware and the disks alone."
    )
    arguments.guest(parser, "name")
    parser.add_argument("file", metavar="FILE", help="new file: an archive, or a package (.ova); - for standard output")
    parser.add_argument("--with-keys", action="store_true", help="also save its SSH host key: the file is then secret")


def load_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Load a guest from a file of `dacha guest save`, under its own name or another one. Nothing is left of a file\n"
        "that is not whole. With FILE - it is read from standard input. A machine that another program exported as an\n"
        "OVF package (.ova, .ovf) becomes a guest, too."
    )
    parser.add_argument("file", metavar="FILE", help="the archive, or - for standard input; or a package: .ova, .ovf")
    parser.add_argument("new_name", metavar="NAME", nargs="?", help="name of the guest (default: the archive's)")
    arguments.network(parser, "--network", what="network of its adapters (default: the one of the same name)")
    parser.add_argument("--check", action="store_true", help="only check the archive, and show what is in it")
    parser.add_argument(
        "--trust", action="store_true", help="load it even if its guest would be given other files of this host"
    )


def run_save(args: argparse.Namespace) -> int:
    from dacha.engine.archive.appliance import is_appliance

    if is_appliance(args.file):
        from dacha.cli.states.appliance import run_save_appliance

        return run_save_appliance(args)
    from dacha.cli.states.holding import held
    from dacha.cli.terminal.progress import share_bar
    from dacha.core.units import show_size
    from dacha.engine.archive.saving import new_archive, save
    from dacha.engine.workspace import load

    if args.file == PIPE and sys.stdout.isatty():
        raise UsageError("an archive cannot be written to a terminal", remedy=f"dacha guest save {args.name} FILE")
    ws = load(args.lab)
    with share_bar() as bar:
        if args.file == PIPE:
            save(ws, args.name, sys.stdout.buffer, with_keys=args.with_keys, progress=bar, lock=held(ws))
            return 0
        with new_archive(args.file) as out:
            made = save(ws, args.name, out, with_keys=args.with_keys, progress=bar, lock=held(ws))
    if args.json:
        output.emit_json(_json(made.manifest) | {"size_bytes": made.length})
        return 0
    output.step(f"guest {args.name}", f"saved to {args.file}: {show_size(made.length)}")
    if made.manifest.running:
        output.step("contents", contents_words(args.name, frozen=made.manifest.frozen))
    output.say(f"Next: dacha guest load {args.file} --check")
    return 0


def run_load(args: argparse.Namespace) -> int:
    from dacha.engine.archive.appliance import is_appliance

    if is_appliance(args.file):
        from dacha.cli.states.appliance import run_load_appliance

        return run_load_appliance(args)
    from dacha.cli.terminal.progress import share_bar
    from dacha.engine.archive import loading, reading
    from dacha.engine.archive.bases import earlier, opened
    from dacha.engine.workspace import load

    if args.check:
        with _opened(args.file) as stream, share_bar() as bar:
            manifest = reading.check(stream, lambda share: bar("checking the archive", share))
            before = earlier(_file(args.file), manifest)
            for base in before:
                with opened(base) as other:
                    other.read(lambda share: bar("checking the archives before it", share))
        _show(args, manifest, [str(base.file) for base in before])
        return 0
    ws = load(args.lab)
    ws.refuse_if_wrong()
    with (
        ws.home.lock("guest load", ws.path, lambda holder: output.note(f"waiting for {holder}")),
        _opened(args.file) as stream,
        share_bar() as bar,
    ):
        made = loading.load(
            args.lab, load(args.lab), stream, args.new_name, network=args.network, trusted=args.trust, progress=bar,
            file=_file(args.file),
        )  # fmt: skip
    if args.json:
        output.emit_json(_json(made.manifest) | {"guest": made.guest})
        return 0
    output.say(f"{made.ws.path.name} now has")
    output.step(f"guest {made.guest}", f"as {made.manifest.guest} of {made.manifest.lab} was {_when(made.manifest)}")
    for adapter in made.ws.plan.adapters_of(made.guest):
        output.step("adapter", f"{adapter.address or 'an address by DHCP'} on {adapter.network}")
    for door in made.ws.lab.guests[made.guest].doors:
        output.step(f"door {door.name}", door_words(made.ws.plan.doors[made.guest, door.name]))
    for key in made.omitted:
        output.step(key, "not loaded: it names something on the host that the archive came from")
    output.say("Next: dacha apply")
    return 0


@contextlib.contextmanager
def _opened(file: str) -> Iterator[BinaryIO]:
    """The archive as a stream. Raises UsageError if it cannot be read."""
    if file == PIPE:
        yield sys.stdin.buffer
        return
    from dacha.host import folders

    try:
        with folders.expand(file).open("rb") as stream:
            yield stream
    except OSError as e:
        raise UsageError(f"{file} cannot be read", why=e.strerror or str(e)) from e


def _file(file: str) -> Path | None:
    """The archive's file; None if it is read from standard input."""
    from dacha.host import folders

    return None if file == PIPE else folders.expand(file)


def _when(manifest: Any) -> str:
    import time

    return time.strftime("at %Y-%m-%d %H:%M", time.localtime(manifest.at))


def _show(args: argparse.Namespace, manifest: Any, before: list[str]) -> None:
    from dacha.core.units import exact_size, show_size

    if args.json:
        output.emit_json(_json(manifest) | {"before": before})
        return
    output.say(f"The archive is whole: {manifest.guest} of the lab {manifest.lab}, {_when(manifest)}")
    for disk in manifest.disks:
        output.step(f"disk {disk.name}", f"{exact_size(disk.size)}, its image has {show_size(disk.length)}")
    for file in before:
        output.step("builds on", file)
    output.step("system", f"{manifest.table.get('system', 'unknown')}, {manifest.architecture}")
    if manifest.running:
        how = "with frozen file systems" if manifest.frozen else "as after a power cut"
        output.step("contents", f"of the running guest, {how}")


def _json(manifest: Any) -> dict[str, Any]:
    return {
        "guest": manifest.guest, "lab": manifest.lab, "at": output.moment(manifest.at),
        "architecture": manifest.architecture, "running": manifest.running, "frozen": manifest.frozen,
        "disks": [{"name": d.name, "size_bytes": d.size, "length_bytes": d.length} for d in manifest.disks],
    }  # fmt: skip
