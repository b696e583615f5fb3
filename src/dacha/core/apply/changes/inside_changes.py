"""Changes inside running guests: keys, what their setups put into them, and addresses."""

from __future__ import annotations

from dacha.core.apply.changes.change import GUESTS, change
from dacha.core.inside.readdress import Move
from dacha.core.inside.setup_items import ItemChange, shown_name
from dacha.core.named import NamedTuple
from dacha.core.people.keys_inside import KeyChange, named


@change("change-keys", GUESTS)
class ChangeKeys(NamedTuple):
    """Add keys to a running guest's accounts, and remove those that the lab no longer allows. `told` are further
    findings and actions there, in words."""

    guest: str
    changes: tuple[KeyChange, ...]
    told: tuple[str, ...] = ()

    def __str__(self) -> str:
        return "keys: " + self._said("add", "remove", "lock", "create")

    def done(self) -> str:
        return "; ".join(("keys: " + self._said("added", "removed", "locked", "created"), *self.told))

    def _said(self, add: str, remove: str, lock: str, create: str) -> str:
        said = []
        for c in self.changes:
            come, go = (", ".join(map(named, keys)) for keys in (c.put, c.take))
            said += [f"{add} {come} to {c.account}"] if come else []
            said += [f"{remove} {go} from {c.account}"] if go else []
            said += [f"{lock} the account {c.account}"] if c.shut else []
            said += [f"{create} the account {c.account}"] if c.own and not (come or go or c.shut) else []
        return "; ".join(said)


@change("change-address", GUESTS)
class ChangeAddress(NamedTuple):
    """Give adapters of a running guest other addresses. `told` are further findings, in words."""

    guest: str
    moves: tuple[Move, ...]
    told: tuple[str, ...] = ()

    def __str__(self) -> str:
        said = ", ".join(f"{m.before} → {m.after}" for m in self.moves)
        return f"address {said}, while it runs"

    def done(self) -> str:
        return "; ".join((", ".join(f"address {m.before} → {m.after}" for m in self.moves), *self.told))


@change("change-inside", GUESTS)
class ChangeInside(NamedTuple):
    """Change the system of a running guest: what its setup puts into it. `told` are further findings, in words."""

    guest: str
    change: ItemChange
    told: tuple[str, ...] = ()

    def __str__(self) -> str:
        return self._said("add", "change", "take back") or "; ".join(self.told)

    def done(self) -> str:
        return "; ".join(filter(None, (self._said("added", "changed", "took back"), *self.told)))

    def _said(self, add: str, change: str, take: str) -> str:
        parts = zip((add, change, take), self.change, strict=True)
        said = "; ".join(f"{word} {', '.join(map(shown_name, names))}" for word, names in parts if names)
        return f"inside: {said}" if said else ""
