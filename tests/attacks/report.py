"""What was tried, what should have come of it, and what did: printed as a table, judged at the end."""

from __future__ import annotations


class Report:
    """The attempts of one test."""

    def __init__(self) -> None:
        self._rows: list[tuple[str, str, str]] = []

    def shut(self, attempt: str, seen: object) -> None:
        """An attack; `seen` is what came through: anything false is nothing."""
        self._rows.append((attempt, "nothing", str(seen) if seen else "nothing"))

    def open(self, attempt: str, seen: object) -> None:
        """What must still work."""
        self._rows.append((attempt, "works", "works" if seen else "nothing"))

    def judge(self) -> None:
        """Print the table; every row must be as expected."""
        print()
        for attempt, expected, seen in self._rows:
            print(f"{attempt:<74} {expected:<8} {seen}")
        wrong = [row for row in self._rows if row[1] != row[2]]
        assert not wrong, "\n".join(f"{a}: expected {e}, seen {s}" for a, e, s in wrong)
