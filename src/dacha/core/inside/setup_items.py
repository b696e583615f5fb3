"""The things that a setup puts into a guest, each with a name and a digest, and what differs from those in it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING

from dacha.core.named import NamedTuple
from dacha.core.sha256 import sha256

if TYPE_CHECKING:
    from typing import Literal

    ItemKind = Literal[
        "mirror", "source", "package", "user", "file", "zone", "locale", "keyboard", "clock", "service", "command"
    ]

# The order in which things are put: a service needs its package and its files, a file its owner. They are taken back in
# the opposite order.
ORDER: tuple[ItemKind, ...] = (
    "mirror", "source", "package", "user", "file", "zone", "locale", "keyboard", "clock", "service", "command",
)  # fmt: skip
_NAMES: Mapping[ItemKind, str] = {
    "zone": "time zone", "mirror": "package source", "source": "source file", "clock": "time servers",
}  # fmt: skip
# The digest of a thing of which it is not known whether it is in the guest: it was sent, and no answer came.
UNSURE = "?"


class Item(NamedTuple):
    """One thing in a guest. `what` identifies it among those of its kind: a package, a path, "" for a setting that
    exists once. `values` are the arguments of its function in the script, `content` is in base64 (RFC 4648 section
    4)."""

    kind: ItemKind
    what: str
    values: tuple[str, ...]
    content: str = ""

    @property
    def name(self) -> str:
        """A readable name, unique in its guest: "package tmux", "file /etc/motd", "time zone"."""
        return item_name(self.kind, self.what)

    @property
    def digest(self) -> str:
        return short_digest("\0".join((*self.values, self.content)))


# Characters of a name that are shown: a command may be long.
_SHOWN = 60


def shown_name(name: str) -> str:
    """An item's name as it is shown: in one line, and not longer than fits there."""
    line = " ".join(name.split())
    return line if len(line) <= _SHOWN else f"{line[: _SHOWN - 1]}…"


def item_name(kind: ItemKind, what: str) -> str:
    return " ".join(x for x in (_NAMES.get(kind, kind), what) if x)


def kind_and_what(name: str) -> tuple[ItemKind, str]:
    """The parts of an item's name."""
    for kind in ORDER:
        word = _NAMES.get(kind, kind)
        if name == word or name.startswith(f"{word} "):
            return kind, name[len(word) + 1 :]
    return "command", name


def short_digest(text: str) -> str:
    return sha256(text.encode()).hexdigest()[:16]


def digests(items: Iterable[Item]) -> dict[str, str]:
    """The digest of each item, by its name."""
    return {item.name: item.digest for item in items}


class ItemChange(NamedTuple):
    """The names of things to add to a guest, to change, and to take back, in the order of the lab file."""

    add: tuple[str, ...] = ()
    change: tuple[str, ...] = ()
    take: tuple[str, ...] = ()


def item_change(had: Mapping[str, str], wanted: Mapping[str, str]) -> ItemChange:
    """The change from the things in a guest to those wanted, both digests by name. One of which nothing is known is
    added."""
    return ItemChange(
        tuple(name for name in wanted if had.get(name, UNSURE) == UNSURE),
        tuple(name for name, digest in wanted.items() if had.get(name, UNSURE) not in (UNSURE, digest)),
        tuple(name for name in had if name not in wanted),
    )
