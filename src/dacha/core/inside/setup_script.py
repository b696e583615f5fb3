"""The script that puts things into a running guest and takes others back, and its answers."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator, Sequence

from dacha.core.harmless import harmless
from dacha.core.inside.setup_items import ORDER, Item, kind_and_what, short_digest
from dacha.core.inside.shell import CONTENT_END, END, FUNCTIONS, SAID
from dacha.core.named import NamedTuple

# A guest may answer anything: this much of a reason is shown.
_WHY_MOST = 200
# Characters of a line of base64: a shell reads lines of limited length quickly.
_WIDTH = 4096


class Answer(NamedTuple):
    """The answer for one thing: `state` is "done", "kept" (it was not taken back, for the reason in `why`) or
    "failed"."""

    state: str
    why: str = ""


class Answers(NamedTuple):
    """The script's answers, by name of the thing; `refused` is why it did nothing: "denied" without root, "busy",
    "unwritable", else ""."""

    by_name: dict[str, Answer]
    refused: str = ""


def names_in_order(put: Iterable[Item], take: Iterable[str]) -> list[str]:
    """All things of a script, in its order: those that are taken back come first."""
    gone = sorted(take, key=lambda name: -ORDER.index(kind_and_what(name)[0]))
    return [*gone, *(item.name for item in sorted(put, key=lambda i: ORDER.index(i.kind)))]


def script(put: Sequence[Item], take: Sequence[str]) -> str:
    """A POSIX shell script for root: it takes back the things named `take`, then puts `put`. It is one function, so
    that a script that was cut off does nothing."""
    items = {item.name: item for item in put}
    numbers = {name: n for n, name in enumerate(names_in_order(put, take))}
    leaving = [what.partition("=")[0] for kind, what in map(kind_and_what, take) if kind == "package"]
    lines = [FUNCTIONS, "main() {", "start", f'for name in {_words(leaving)}; do echo "$name"; done > "$T/leaving"']
    for name, number in numbers.items():
        if name not in items:
            kind, what = kind_and_what(name)
            lines.append(f"take {kind} {number} {_words([item_id(kind, what)])}")
    lines += ["sweep_packages", "sweep_groups"] if take else []
    batch = [i for i in (items[n] for n in numbers if n in items) if i.kind == "package"]
    for item in (items[n] for n in numbers if n in items):
        if item.kind == "package":
            if item is batch[0]:
                rows = (x for i in batch for x in (str(numbers[i.name]), item_id(i.kind, i.what), i.what))
                lines.append(f"packages {_words(rows)}")
            continue
        lines += _content(item)
        lines.append(f"put {item.kind} {numbers[item.name]} {_words([item_id(item.kind, item.what), *item.values])}")
    return "\n".join([*lines, "finish", "}", "main", ""])


def item_id(kind: str, what: str) -> str:
    """The name of a thing's folder in the guest's ledger."""
    plain = what.partition("=")[0] if kind == "package" else what
    simple = plain.replace("-", "").replace("_", "").replace(".", "").isalnum() and len(plain) < 64
    return f"{kind}-{plain if simple else short_digest(plain)}" if plain else kind


def _content(item: Item) -> Iterator[str]:
    if item.content or item.kind in ("file", "source", "command"):
        yield f"content << '{CONTENT_END}'"
        yield from (item.content[n : n + _WIDTH] for n in range(0, len(item.content), _WIDTH))
        yield CONTENT_END


def _words(values: Iterable[str]) -> str:
    return " ".join(map(shlex.quote, values))


def read_answers(text: str, names: Sequence[str]) -> Answers | None:
    """The answers for the things `names`, in the script's order; None if it did not run to its end."""
    lines = text.splitlines()
    if END not in lines:
        return None
    found: dict[str, Answer] = {}
    refused = ""
    for line in lines:
        word, _, rest = line.partition(" ")
        number, _, said = rest.partition(" ")
        if word == SAID and number.isdecimal() and int(number) < len(names):
            state, _, why = said.partition(" ")
            if state in ("done", "kept", "failed"):
                found[names[int(number)]] = Answer(state, harmless(why)[:_WHY_MOST])
        elif word == SAID and rest in ("denied", "busy", "unwritable"):
            refused = rest
    return Answers(found, refused)
