"""Every answer in JSON that any test gets is held against its schema, with whatever it has in it."""

from __future__ import annotations

import json
import os
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from dacha.cli.commands import BY_NAME

# Where answers are put aside for whoever writes a schema anew.
KEEP = os.environ.get("DACHA_KEEP_ANSWERS")


@cache
def schemas() -> dict[str, Any]:
    return json.loads(files("dacha").joinpath("schemas.json").read_text())  # type: ignore[no-any-return]


@cache
def validator(name: str) -> Any:
    import jsonschema

    whole = schemas()
    return jsonschema.Draft202012Validator({"$defs": whole["$defs"], **whole["answers"][name]})


def command_of(arguments: tuple[str, ...]) -> str | None:
    """Which answer these arguments ask for; None where they ask for none."""
    own = arguments[: arguments.index("--")] if "--" in arguments else arguments
    if "--json" not in own or "--help" in own:
        return None
    words = [w for n, w in enumerate(own) if not w.startswith("-") and (n == 0 or own[n - 1] != "--lab")]
    if not words or words[0] not in BY_NAME:
        return None
    return words[0] if BY_NAME[words[0]].example else " ".join(words[:2])


def check(arguments: tuple[str, ...], out: str) -> None:
    name = command_of(arguments)
    if name is None or not out.strip():
        return
    if name == "log" and '"error"' not in out:
        # One object in each line.
        for line in out.splitlines():
            found = [e.message for e in validator(name).iter_errors(json.loads(line))]
            assert not found, (arguments, found)
        return
    answer = json.loads(out)
    if KEEP:
        path = Path(KEEP) / f"{name.replace(' ', '_')}.jsonl"
        with path.open("a") as f:
            f.write(json.dumps(answer) + "\n")
        return
    found = sorted(validator("error" if "error" in answer else name).iter_errors(answer), key=lambda e: len(e.path))
    assert not found, (arguments, [f"{'/'.join(map(str, e.path))}: {e.message}"[:300] for e in found[:5]])
