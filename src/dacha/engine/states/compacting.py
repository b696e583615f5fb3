"""Give this host the space of a guest's disks that the guest no longer uses."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from functools import partial
from pathlib import Path

from dacha.core.apply.observed import ON, PAUSED, SAVED
from dacha.core.errors import AnswerNo, DachaError, HostError
from dacha.core.inside.trimming import SCRIPT, read_answers
from dacha.core.named import NamedTuple
from dacha.engine.disks.moving import has_snapshots, stored
from dacha.engine.guest.observe import observe_guest
from dacha.engine.inside.run import run_inside
from dacha.engine.workspace import Workspace
from dacha.host.files import sweep
from dacha.hypervisor.images import copying, images, making
from dacha.hypervisor.monitor import agent

Progress = Callable[[str, float], None]
# Trimming a large file system takes long on a slow disk (seconds).
TRIM_S, ANSWER_S = 900.0, 20.0


class Compacted(NamedTuple):
    """What came of a guest: the bytes that its disks took on this host before and afterwards; `by` is "its guest
    agent", "a login", or "" if it was off and its images were written again; what could not be done, in words."""

    guest: str
    before: int
    after: int
    by: str = ""
    left: tuple[str, ...] = ()


def compact(ws: Workspace, name: str, progress: Progress) -> Compacted:
    """Trim the file systems of a running guest, or write the images of a guest that is off again without their unused
    parts: then the lab's lock must be held. Raises DachaError; then nothing has changed."""
    home = ws.home
    disks = dict(home.disks(name))
    if not disks:
        raise AnswerNo(f"{name} has no disk")
    home.refuse_if_archived(name)
    seen = observe_guest(home, name, forwards=False)
    before = sum(map(stored, disks.values()))
    if seen.state == SAVED:
        raise AnswerNo(f"{name} is saved to disk, and its memory belongs to its disks", remedy=f"dacha start {name}")
    if seen.state == ON:
        by = _trimmed(ws, name)
        return Compacted(name, before, sum(map(stored, disks.values())), by)
    if seen.running:
        remedy = f"dacha resume {name}" if seen.state == PAUSED else f"dacha restart {name} --force"
        raise AnswerNo(f"{name} is {seen.state}: it can trim nothing", remedy=remedy)
    left = []
    for disk, path in disks.items():
        if has_snapshots(path):
            left.append(f"disk {disk} has snapshots: it is compacted while {name} runs")
        else:
            _written_again(path, partial(progress, f"compacting disk {disk} of {name}"))
    return Compacted(name, before, sum(map(stored, disks.values())), "", tuple(left))


def _trimmed(ws: Workspace, name: str) -> str:
    """How a running guest was told to trim its file systems. Raises AnswerNo if it does not."""
    run = ws.home.run(name)
    if agent.answers(run, ANSWER_S):
        told = agent.ask(run, "guest-fstrim", TRIM_S)
        paths = told.get("paths", []) if isinstance(told, dict) else []
        if any(isinstance(p, dict) and "error" not in p for p in paths):
            return "its guest agent"
    way, out = run_inside(ws, name, SCRIPT, TRIM_S)
    answers = read_answers(out)
    if answers is None or not answers.places:
        raise AnswerNo(
            f"{name} does not trim its file systems",
            why=answers.why if answers else f"its answer {way} was not complete",
            remedy=f"run as root in the guest: fstrim -av; or: dacha stop {name}, then compact it again",
        )
    return way.removeprefix("by ")


def _written_again(path: Path, progress: Callable[[float], None]) -> None:
    """Replace an image by a copy with the same contents and backing image, if that is smaller. Raises HostError."""
    real, named = path.resolve(), images.header(path).backing
    making.need_space(real.parent, stored(path), "a compact copy of the disk", "")
    sweep(real.parent, f".{real.name}.*.part")
    new = real.with_name(f".{real.name}.{os.urandom(4).hex()}.part")
    try:
        copying.copy_off(path, new, whole=False, progress=progress, share=False)
        if images.header(new).backing != named:
            raise HostError(f"the compact copy of {path} has another backing image than {named!r}")
        if stored(new) < stored(path):
            new.rename(real)
    except OSError as e:
        raise HostError(f"cannot compact {path}", why=e.strerror or str(e)) from e
    finally:
        with contextlib.suppress(OSError):
            new.unlink()


def compact_all(
    ws: Workspace, names: list[str], lock: Callable[[], contextlib.AbstractContextManager[None]], progress: Progress,
    told: Callable[[str, Compacted | DachaError], None],
) -> bool:  # fmt: skip
    """Compact guests one after the other; the lab is held for those that are off. False if one could not be."""
    fine = True
    for name in names:
        try:
            with contextlib.nullcontext() if ws.home.is_running(name) else lock():
                made = compact(ws, name, progress)
        except DachaError as e:
            fine = False
            told(name, e)
        else:
            told(name, made)
    return fine
