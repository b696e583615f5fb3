"""The one family of errors.

DachaError                what, where, why, and what to do
├── UsageError            ours to refuse: asked for something that cannot be (exit 2)
│   └── LabError          the lab file is wrong; carries every finding (exit 2)
├── AnswerNo               the answer is no: a door does not answer, a guest does not stop (exit 1)
├── HostError             the environment refused: missing program, no permission, no space (exit 3)
│   ├── HostFindings      several things refuse, each a finding (exit 3)
│   └── BusyError         another dacha process holds the lab (exit 3)
└── PeerError             the other end broke its protocol (exit 1)
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from dacha.core.findings import Finding


class BadValue(ValueError):
    """An invalid value: `what` is wrong with it, and the `remedy` ("" for none). The caller, who knows its place, turns
    it into a finding or a `UsageError`."""

    def __init__(self, what: str, remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.remedy = remedy


class DachaError(Exception):
    """A refusal. `what` is one sentence; the other fields give place, reason and remedy. `code` identifies the kind of
    refusal for scripts, and is stable."""

    exit_code, code = 1, "refused"

    def __init__(self, what: str, *, where: str = "", why: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.why = why
        self.remedy = remedy

    def lines(self) -> list[str]:
        """The whole message, one item a line."""
        first = f"{self.where}: {self.what}" if self.where else self.what
        return [first, *("  " + line for text in (self.why, self.remedy) if text for line in text.splitlines())]

    def message(self) -> str:
        """Return the message for a terminal, which starts with `error:`."""
        return "error: " + "\n".join(self.lines())


class UsageError(DachaError):
    """Wrong use of a command."""

    exit_code, code = 2, "usage"


class LabError(UsageError):
    """The lab file has errors. `findings` are all errors, in file order; `unchanged` names the file that an edit left
    as it was."""

    code = "lab-file"

    def __init__(
        self,
        what: str,
        *,
        where: str = "",
        why: str = "",
        remedy: str = "",
        findings: Sequence[Finding] = (),
        unchanged: str = "",
    ) -> None:
        super().__init__(what, where=where, why=why, remedy=remedy)
        self.findings = tuple(findings)
        self.unchanged = unchanged

    def message(self) -> str:
        """Return the message with `error:` before each finding; remedies are indented below."""
        return _each(self.lines()) + (f"\n{self.unchanged} is unchanged." if self.unchanged else "")


class AnswerNo(DachaError):
    """The request was tried, and the result is negative."""

    exit_code, code = 1, "no"


class HostError(DachaError):
    """This host refused something, or lacks something."""

    exit_code, code = 3, "host"


class HostFindings(HostError):
    """This host does not support the lab: every reason, one finding a line."""

    def message(self) -> str:
        return _each(self.lines())


class BusyError(HostError):
    """Another dacha process holds a lock; `holder` describes it, "" if unknown."""

    code = "busy"

    def __init__(self, what: str, *, why: str = "", remedy: str = "", holder: str = "") -> None:
        super().__init__(what, why=why, remedy=remedy)
        self.holder = holder


class PeerError(DachaError):
    """A peer (hypervisor, guest, client) violated its protocol."""

    exit_code, code = 1, "peer"


def _each(lines: Sequence[str]) -> str:
    """Put `error:` before each line that is not an indented remedy."""
    rows = "\n".join(lines).splitlines()
    return "\n".join(x if x.startswith(" ") else f"error: {x}" for x in rows)
