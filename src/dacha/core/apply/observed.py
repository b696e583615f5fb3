"""What is seen of a lab's guests on this host, as plain values."""

from __future__ import annotations

from dacha.core.apply.machine import Machine
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import Forward

OFF, ON, PAUSED, HUNG = "off", "on", "paused", "hung"
# A guest that came up this recently (seconds) may simply not be through with booting.
BOOTING_S = 300.0


class ObservedGuest(NamedTuple):
    """What was seen of one guest.

    `state` is off, on, paused or hung (its process lives, its monitor does not answer); `fault` is the run state among
    FAULTS (`faults.py`) of one that is paused for that; `since` is Unix seconds; `machine` and `forwards` are what the
    running process has, None where that is not known; `disks` are those that exist, each by its name with its size in
    bytes; `stopped_on_purpose` keeps `apply` from starting it; `installing` is when an installation that is not done
    began; `tpm_lost` is true when its TPM's program ended under it, `gate_lost` when the process ended that it asks
    before it connects; `deleting` are disks that are to go with it, by name; `keyed` are the keys that were put into
    it, by account, None where nobody knows, and `own_accounts` those of its accounts that are there for people alone,
    `unsure` keys that may have come in.
    """

    state: str = OFF
    fault: str = ""
    pid: int | None = None
    since: float | None = None
    machine: Machine | None = None
    forwards: frozenset[Forward] | None = None
    disks: frozenset[tuple[str, int]] = frozenset()
    host_key: bool = False
    seed: str | None = None
    stopped_on_purpose: bool = False
    installing: float | None = None
    tpm_lost: bool = False
    gate_lost: bool = False
    deleting: tuple[str, ...] = ()
    keyed: dict[str, list[str]] | None = None
    own_accounts: tuple[str, ...] = ()
    unsure: dict[str, list[str]] | None = None

    @property
    def running(self) -> bool:
        return self.state != OFF
