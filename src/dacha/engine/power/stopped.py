"""A guest whose process has ended: what is left of it on this host, and whether it may start again."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.engine.home import Home
from dacha.host import cgroup


def clean_up(home: Home, name: str) -> None:
    """Remove what a guest's process leaves: its control group, and its TPM emulator."""
    cgroup.remove(home.lab, name)
    if home.tpm_note(name).is_file():
        from dacha.hypervisor.beside import tpm

        tpm.end(home.tpm_note(name))


def may_start(home: Home, names: Iterable[str]) -> None:
    """Record that `apply` may start these guests, although a command stopped or saved them. Raises HostError."""
    for name in names:
        record = home.read(name)
        if record.stopped_on_purpose:
            record.stopped_on_purpose = False
            home.write(name, record)
