"""What is seen of a lab's guests on this host, as plain values."""

from __future__ import annotations

from typing import TYPE_CHECKING

from dacha.core.apply.machine import Machine
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import Forward

if TYPE_CHECKING:
    from typing import Literal

    State = Literal["off", "saved", "on", "paused", "hung"]

OFF: State = "off"
SAVED: State = "saved"
ON: State = "on"
PAUSED: State = "paused"
HUNG: State = "hung"
# A guest that started this recently (seconds) may still be booting.
BOOTING_S = 300.0
# A guest whose console shows nothing for this long (seconds) probably does not start, or does not use that console.
QUIET_S = 30.0


class ObservedGuest(NamedTuple):
    """The observed state of one guest. `state` is off, saved (its process ended, and its memory is on disk), on, paused
    or hung (its process lives, but its monitor does not respond); `fault` is the run state in FAULTS (`faults.py`) if
    QEMU suspended it; `since` is in Unix seconds; `machine` and `forwards` are those of the running process, None if
    unknown (`machine` also that of a saved one); `disks` are the existing ones, name and size in bytes;
    `stopped_on_purpose` keeps `apply` from starting it; `installing` is when an unfinished installation began;
    `tpm_lost` means that its TPM emulator exited, `gate_lost` that its gate process exited; `deleting` are disks to be
    deleted with it; `keyed` are the keys that Dacha installed by account, None if unknown, `own_accounts` the
    accounts that exist for people only, `unsure` keys that may have been installed;
    `inside` are the digests of the things that its setup put into it, by name, None if unknown."""

    state: State = OFF
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
    inside: dict[str, str] | None = None

    @property
    def running(self) -> bool:
        return self.state not in (OFF, SAVED)
