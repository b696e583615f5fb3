"""A cursor over one table of the lab file that collects findings instead of stopping at the first error."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, TypeVar

from dacha.core.errors import BadValue
from dacha.core.findings import ERROR, Finding, Path, subject_of
from dacha.core.lab import fields

T = TypeVar("T")
U = TypeVar("U")


class Table:
    """Takes keys one by one; `finish` reports those that were not taken."""

    def __init__(self, data: object, path: Path, findings: list[Finding]) -> None:
        self.path = path
        self.findings = findings
        self._known: list[str] = []
        self.ok = isinstance(data, dict)
        self.data: dict[str, Any] = data if isinstance(data, dict) else {}
        if not self.ok:
            self.wrong(
                "", "kind", "a table is required here", f"write [{'.'.join(map(str, path))}] or {{ key = value }}"
            )

    def wrong(self, key: str, code: str, what: str, remedy: str = "") -> None:
        """Note an error at `key` of this table ("" for the table itself)."""
        path = (*self.path, key) if key else self.path
        subject = subject_of(self.path)
        shown = f"{key}: {what}" if key and not subject.endswith(f" {key}") else what
        self.findings.append(Finding(ERROR, code, subject, shown, remedy, path))
        self.ok = False

    def take(self, key: str, read: Callable[[object], U], default: T) -> T | U:
        """The value of `key`, converted by `read`, else `default`."""
        self._known.append(key)
        if key not in self.data:
            return default
        try:
            return read(self.data[key])
        except BadValue as e:
            self.wrong(key, "value", e.what, e.remedy)
            return default

    def need(self, key: str, read: Callable[[object], T], example: str) -> T | None:
        """Like `take`, but a missing key is an error."""
        if key not in self.data:
            self._known.append(key)
            self.wrong("", "missing", f"{key} is missing", f"add: {key} = {example}")
            return None
        return self.take(key, read, None)

    def list_of(self, key: str, read: Callable[[object], T]) -> tuple[T, ...]:
        """Each member of a list; a single value stands for a list of one."""
        self._known.append(key)
        value = self.data.get(key, [])
        out = []
        for item in value if isinstance(value, list) else [value]:
            try:
                out.append(read(item))
            except BadValue as e:
                self.wrong(key, "value", e.what, e.remedy)
        return tuple(out)

    def table(self, key: str) -> Table | None:
        """The inner table `key`, or None when it is not there."""
        self._known.append(key)
        if key not in self.data:
            return None
        inner = Table(self.data[key], (*self.path, key), self.findings)
        self.ok = self.ok and inner.ok
        return inner

    def tables(self, key: str) -> Iterator[tuple[str, Table]]:
        """Each named table below `key`: (name, table), in file order."""
        outer = self.table(key)
        if outer:
            for each in list(outer.data):
                inner = outer.table(each)
                if inner:
                    yield each, inner

    def list_of_tables(self, key: str) -> Iterator[Table]:
        """Each table of the list `key`; one table alone stands for a list of one."""
        self._known.append(key)
        value = self.data.get(key, [])
        if isinstance(value, list):
            for n, item in enumerate(value):
                yield Table(item, (*self.path, key, n), self.findings)
        else:
            yield Table(value, (*self.path, key), self.findings)

    def finish(self) -> None:
        """Report unknown keys, with the most similar known one."""
        for key in self.data:
            if key not in self._known:
                from dacha.core.spelling import did_you_mean

                self.wrong(key, "unknown-key", "unknown key", did_you_mean(key, self._known))


def checked_name(table: Table, name: str) -> None:
    """Report an invalid name in the lab file."""
    try:
        fields.name(name)
    except BadValue as e:
        table.wrong("", "name", e.what, e.remedy)
