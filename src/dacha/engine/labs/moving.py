"""Move a lab to another state folder, or to another lab file: keys are kept, and disks find their backing images."""

from __future__ import annotations

import itertools
import os
import shutil
import subprocess
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

from dacha.core.errors import HostError, UsageError
from dacha.engine.caretaker import process as caretaking
from dacha.engine.caretaker import unit
from dacha.engine.caretaker.unit_file import installed
from dacha.engine.labs.kept_labs import KeptLab
from dacha.engine.workspace import Workspace, load
from dacha.host import folders
from dacha.host.accounts import owner_moved
from dacha.host.files import refused
from dacha.hypervisor.images import chain, making

# Limits of the search for an image: a lab file may be in a home folder.
DEEPEST, MOST = 4, 2000

Report = Callable[[str, str], None]


def move_file(lab: KeptLab, file: Path, report: Report) -> Workspace:
    """Change the lab file of a lab: files beside the old one are looked for beside the new one. Raises UsageError,
    HostError; then nothing was changed."""
    home, ws = lab.home, load(str(file))
    if ws.lab.name != home.lab:
        raise UsageError(f"this is the lab {ws.lab.name}, not {home.lab}", where=str(file), remedy="use its own file")
    before = lab.file.parent if lab.file else file.parent
    moves = _found_again(lab, before, ws.path.parent)
    if moves and any(g.on for g in lab.guests):
        raise UsageError("its disks are in use", remedy=f"dacha stop --all --lab {file}")
    with home.lock("lab move", lab.file if lab.file_there and lab.file else ws.path):
        for disk, (image, form) in moves.items():
            _lay_on(disk, image, form)
            report("disk", f"{disk.parent.name}/{disk.stem.removeprefix('disk-')} now uses {image}")
        home.describe(ws.path)
    if installed(home.lab):
        unit.install(ws, None, partial(caretaking.stop, ws.home))
        report("this host", "starts the caretaker for the new file at boot")
    elif caretaking.stop(home):
        caretaking.start(ws)
        report("caretaker", "started again, for the new file")
    return ws


def _lay_on(disk: Path, image: Path, form: str) -> None:
    making.rebase(disk, image, form)
    chain.note(disk)


def _found_again(lab: KeptLab, before: Path, after: Path) -> dict[Path, tuple[Path, str]]:
    """Disks whose image is missing beside the old file, each with the image beside the new one and its format. Raises
    HostError for one that is in neither place."""
    found = {}
    for guest in lab.guests:
        for disk in guest.disks:
            layers = chain.layers(disk.path)[1:2] if disk.path.exists() else []
            if not layers or layers[0][0].exists():
                continue
            gone, form = layers[0]
            here = next((f for f in _places(gone, before, after) if chain.made_on(disk.path, f)), None)
            if here is None:
                raise HostError(
                    f"disk {guest.name}/{disk.name} needs the image {gone}, which no longer exists",
                    why=f"no file in {after} has the same content",
                    remedy=f"move the image back to {gone}, or into {after}",
                )
            found[disk.path] = (here, form)
    return found


def _places(gone: Path, before: Path, after: Path) -> Iterator[Path]:
    """Files that may be the image formerly at `gone`, the likeliest first: at the same place relative to the lab file,
    then under any end of its path, then with its name, then any file below the new folder."""
    if gone.is_relative_to(before):
        yield after / gone.relative_to(before)
    for n in range(1, len(gone.parts)):
        yield after.joinpath(*gone.parts[n:])
    files = [Path(folder, name) for folder, names in _folders_below(after) for name in names]
    yield from sorted(files, key=lambda f: f.name != gone.name)


def _folders_below(top: Path) -> Iterator[tuple[str, list[str]]]:
    """Walk the folders below `top`, at most DEEPEST levels and MOST folders; yields each with its files."""
    walked = os.walk(top)
    for folder, inner, names in itertools.islice(walked, MOST):
        if len(Path(folder).relative_to(top).parts) >= DEEPEST:
            inner.clear()
        yield folder, names


def move_state(lab: KeptLab, state: Path, report: Report) -> Path:
    """Move a lab to another state folder, with the backing media of its disks. Raises UsageError, HostError. If it is
    killed, the old place stays complete until the new one is."""
    home = lab.home
    new = state / "labs" / home.lab
    if any(g.on for g in lab.guests):
        raise UsageError(f"guests of {home.lab} are on", remedy="dacha stop --all")
    if new.is_symlink() and new.resolve() == home.folder:
        new.unlink()  # it was here before
    if new.exists():
        raise UsageError(f"a lab named {home.lab} already exists", where=str(state), remedy="choose another folder")
    with home.lock("lab move", lab.file or home.folder / "lab.toml"):
        if caretaking.stop(home):
            report("caretaker", "stopped: the next apply starts it again")
        folders.make_private(state)
        folders.make_private(new.parent)
        media = _copy_media(lab, state, report)
        _carry(home.folder, new)
        owner_moved(home.folder, new)
        for disk in sorted(new.glob("guests/*/disk-*.qcow2")):
            layers = chain.layers(disk)[1:2] if disk.exists() else []
            if layers and layers[0][0] in media:
                _lay_on(disk, media[layers[0][0]], layers[0][1])
    shutil.rmtree(home.folder, ignore_errors=True)
    # Commands with the old state folder, or the default one, still find the lab.
    point_to(home.folder, new)
    report("lab", f"stored in {new}; {home.folder} is a link to it")
    return new


def point_to(before: Path, after: Path) -> None:
    """Make the path `before` a link to the lab's folder. Raises HostError."""
    try:
        before.symlink_to(after)
    except OSError as e:
        raise refused(before, e) from e


def _copy_media(lab: KeptLab, state: Path, report: Report) -> dict[Path, Path]:
    """Copy or link the backing media of the lab's disks to the other state folder; returns where each is there."""
    store, there = folders.state() / "media", state / "media"
    copied: dict[Path, Path] = {}
    for image in lab.images:
        if image.parent.resolve() != store.resolve():
            continue
        folders.make_private(there)
        copied[image] = there / image.name
        for file in (image, image.with_suffix(".json")):
            if file.is_file() and not (there / file.name).exists():
                _copy(file, there / file.name)
        report("medium", f"{image.stem} copied: {there / image.name}")
    return copied


def _copy(source: Path, target: Path) -> None:
    try:
        os.link(source, target)
    except OSError:
        _cp(source, target)


def _carry(before: Path, after: Path) -> None:
    """Rename a folder, or copy it completely to another file system."""
    try:
        os.rename(before, after)
        return
    except OSError:
        pass
    part = after.with_name(f".{after.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    _cp(before, part)
    os.rename(part, after)


def _cp(source: Path, target: Path) -> None:
    done = subprocess.run(
        ["cp", "-a", "--sparse=always", "--", str(source), str(target)], capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise HostError(
            f"cannot copy {source} to {target}", why=done.stderr.strip(), remedy="check the free space there"
        )
