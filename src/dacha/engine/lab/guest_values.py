"""Values of a guest from command line options, as keys of the lab file: for new guests and changed ones."""

from __future__ import annotations

from typing import Any

from dacha.core.errors import UsageError
from dacha.core.findings import Path
from dacha.core.lab.text.edits import Edit, Set
from dacha.core.named import NamedTuple
from dacha.engine.lab.proposals import tidy_size, written_path
from dacha.engine.workspace import Workspace


class Values(NamedTuple):
    """The specified values of a guest; None for an option that was not used."""

    system: str | None = None
    cpus: int | None = None
    memory: str | None = None
    firmware: str | None = None
    secure_boot: bool | None = None
    tpm: bool | None = None
    answers: bool | None = None
    edition: str | None = None
    first_boot: bool | None = None
    resolution: str | None = None
    stop_after: str | None = None
    machine_type: str | None = None
    restart: str | None = None
    ready_within: str | None = None
    when_host_stops: str | None = None
    at_boot: bool | None = None
    start_order: int | None = None
    start_delay: str | None = None
    archive_in: str | None = None
    archive_every: str | None = None
    archive_at: str | None = None
    archive_keep: int | None = None
    archive_whole_every: int | None = None


class AdapterValues(NamedTuple):
    """The specified values of adapters, each as "VALUE" or "NETWORK=VALUE"; None for an option that was not used."""

    address: str | None = None
    address6: str | None = None
    hardware_address: str | None = None
    model: str | None = None
    routes: str | None = None


def machine_values(asked: Values) -> dict[str, Any]:
    """The specified values by their keys in the lab file; those of its start are a separate table."""
    found: dict[str, Any] = {
        "system": asked.system,
        "cpus": asked.cpus,
        "memory": tidy_size(asked.memory) if asked.memory else None,
        "firmware": asked.firmware,
        "secure-boot": asked.secure_boot,
        "tpm": asked.tpm,
        "answers": asked.answers,
        "edition": asked.edition,
        "first-boot": asked.first_boot,
        "resolution": asked.resolution,
        "stop-after": asked.stop_after,
        "machine-type": asked.machine_type,
        "restart": asked.restart,
    }
    return {key: value for key, value in found.items() if value is not None}


def boot_values(
    ws: Workspace, kernel: str | None, initrd: str | None, command_line: str | None, *, has_kernel: bool = False
) -> dict[str, str]:
    """The specified values of direct kernel boot. Raises UsageError for one without a kernel, unless it
    `has_kernel`."""
    if not kernel and not has_kernel and (initrd or command_line):
        raise UsageError("--initrd and --command-line need --kernel", remedy="add --kernel")
    boot = {
        "kernel": kernel and written_path(ws, kernel),
        "initrd": initrd and written_path(ws, initrd),
        "command-line": command_line,
    }
    return {key: value for key, value in boot.items() if value}


def start_values(asked: Values) -> dict[str, Any]:
    """Values of its automatic start, by the keys of the table `start`."""
    found = {"at-boot": asked.at_boot, "order": asked.start_order, "delay": asked.start_delay}
    found["ready-within"] = asked.ready_within
    found["when-host-stops"] = asked.when_host_stops
    return {key: value for key, value in found.items() if value is not None}


def archive_values(ws: Workspace, asked: Values) -> dict[str, Any]:
    """Values of its archives, by the keys of the table `archive`."""
    found: dict[str, Any] = {
        "folder": asked.archive_in and written_path(ws, asked.archive_in),
        "every": asked.archive_every,
        "at": asked.archive_at,
        "keep": asked.archive_keep,
        "whole-every": asked.archive_whole_every,
    }
    return {key: value for key, value in found.items() if value is not None}


def adapter_edits(here: Path, names: list[str], asked: AdapterValues) -> list[Edit]:
    """The edits of a guest's adapters; `names` are their networks. Raises UsageError for another one."""
    edits: list[Edit] = []
    for key, text in asked._asdict().items():
        if text is None:
            continue
        network, _, value = text.rpartition("=")
        if not names or (network and network not in names):
            raise UsageError(
                f"{here[1]} has no adapter on {network or 'any network'}",
                remedy=f"choose one of its networks: {', '.join(names)}" if names else "add one: --adapter NETWORK",
            )
        at = (*here, "adapter", names.index(network) if network else 0, key.replace("_", "-"))
        edits.append(Set(at, adapter_value(key, value)))
    return edits


def adapter_value(key: str, text: str) -> Any:
    """A value of an adapter in the lab file's form. Raises UsageError."""
    if key != "routes":
        return text
    if text not in ("yes", "no"):
        raise UsageError(f"--routes: {text!r} must be yes or no", remedy="write --routes yes or --routes no")
    return text == "yes"
