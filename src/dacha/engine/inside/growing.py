"""After a disk was grown: let the running guest's partition and file system follow."""

from __future__ import annotations

from dacha.core.errors import DachaError
from dacha.core.inside.growing import read_answers, script
from dacha.core.lab.names import disk_serial
from dacha.core.units import show_size
from dacha.engine.inside.run import run_inside
from dacha.engine.workspace import Workspace

# How long it may take (seconds): a guest that does not respond keeps its file system as it is.
LIMIT_S = 60.0


def follow(ws: Workspace, name: str, disk: str) -> str:
    """What came of it, in words."""
    if ws.lab.guests[name].system == "windows":
        return "its volume keeps its size: extend it in its disk management"
    try:
        _, out = run_inside(ws, name, script(disk_serial(disk)), LIMIT_S)
    except DachaError as e:
        return f"its file system keeps its size, or grows at its next boot: {e.why or e.what}"
    answers = read_answers(out)
    if answers is None:
        return "its file system keeps its size, or grows at its next boot: its answer was not complete"
    if answers.left:
        return f"its file system keeps its size: {answers.left}"
    if answers.now <= answers.before:
        return f"its file system at {answers.place} has {show_size(answers.now)} already"
    return f"its file system at {answers.place} grew from {show_size(answers.before)} to {show_size(answers.now)}"
