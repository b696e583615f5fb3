"""Read an ISO medium in a process of its own, which bounds the cost of a malicious image.

It is this module as a script: it has the medium's open descriptor and no other file, no privileges, no network, and
limits of memory and time. The request is JSON in its argument, the result goes to its output.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.formats.medium import Medium, inspect_iso, read_files
from dacha.host import confine
from dacha.host.accounts import helper

# Bytes of memory and seconds of CPU time. A medium with a hundred thousand files needs a tenth of either. Requested
# files are extra.
MEMORY, SECONDS = 256 << 20, 10
# On a busy machine these seconds take longer.
PATIENCE_S = 90.0


class TooCostly(Exception):
    """The medium could not be read within the limits."""


def inspect_medium(path: Path) -> Medium:
    """Examine an ISO medium; one that cannot be read within the limits has that in its `problems`. Raises HostError."""
    try:
        told = json.loads(_asked(path, {"do": "inspect"}, MEMORY))
    except TooCostly as e:
        return Medium("iso", problems=(str(e),))
    editions = tuple((int(index), str(edition), str(name)) for index, edition, name in told["editions"])
    return Medium(**told | {"problems": tuple(told["problems"]), "editions": editions})


def read_medium_files(path: Path, wanted: Mapping[str, int]) -> dict[str, bytes] | None:
    """Files of a medium by path, each up to a maximum size; None if one is missing, larger, or if the medium cannot be
    read within the limits. Raises HostError."""
    try:
        data = _asked(path, {"do": "files", "wanted": dict(wanted)}, MEMORY + 2 * sum(wanted.values()))
    except TooCostly:
        return None
    found = {}
    at = 0
    for name in wanted:
        length = int.from_bytes(data[at : at + 8], "big")
        if not length or len(data) < at + 8 + length:
            return None
        found[name] = data[at + 8 : at + 8 + length]
        at += 8 + length
    return found


def _asked(path: Path, question: dict[str, Any], memory: int) -> bytes:
    """The result. Raises TooCostly, HostError."""
    user = helper()
    with path.open("rb") as medium:
        told = question | {"fd": medium.fileno(), "memory": memory, "user": user[:2] if user else None}
        command = [sys.executable, "-P", "-m", "dacha.hypervisor.images.read_medium", json.dumps(told)]
        try:
            done = subprocess.run(
                command, stdin=subprocess.DEVNULL, capture_output=True, pass_fds=[medium.fileno()], timeout=PATIENCE_S,
                check=False,
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            raise TooCostly(f"it could not be read within {PATIENCE_S:.0f} s") from None
        except OSError as e:
            raise HostError(f"cannot read {path}", why=e.strerror or str(e)) from e
    if done.returncode == 0:
        return done.stdout
    words = done.stderr.decode(errors="replace").strip().rpartition("\n")[2]
    if done.returncode < 0 or "MemoryError" in words:
        raise TooCostly(f"it could not be read with {memory >> 20} MiB of memory and {SECONDS} s of CPU time")
    raise HostError(f"cannot read {path}", why=words[:200])


def main() -> None:
    """Process the request in the argument."""
    import pycdlib  # noqa: F401  # loaded while there are files

    question = json.loads(sys.argv[1])
    user = question["user"]
    fd = int(question["fd"])
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS + 1))
    resource.setrlimit(resource.RLIMIT_AS, (question["memory"], question["memory"]))
    confine.give_up(tuple(user) if user else None, calls=confine.CALLS_WITHOUT_CONNECTIONS)
    with os.fdopen(fd, "rb") as medium:
        if question["do"] == "inspect":
            found = inspect_iso(medium, os.fstat(fd).st_size)
            sys.stdout.write(json.dumps(found._asdict()))
            return
        files = read_files(medium, question["wanted"])
        for name in question["wanted"]:
            content = (files or {}).get(name, b"")
            sys.stdout.buffer.write(len(content).to_bytes(8, "big") + content)


if __name__ == "__main__":
    main()
