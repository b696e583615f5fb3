"""The record of one guest in the state folder."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

from dacha.core.apply.machine import Machine, machine_from
from dacha.host.processes import Process, process_from


class Record(SimpleNamespace):
    """The record of one guest: the machine its process was given, that process, and its state at the end.

    `installing` is when an installation began (Unix seconds), `installed` the medium of a completed one, `uid` the
    user that its process runs as, None for the user who started it; `removed` is when the guest was found to have left
    the lab, `delete_disks` its disks to delete then. `again` counts requests to apply its first-boot data again,
    `accepted_key` is another host key than Dacha's that the user accepted; `told` is the digest of its first-boot data
    without keys, `bare` that without its setup either, `instance` the instance name used; `inside` are the things of
    its setup that are in it, each with a digest, None if unknown; `keyed` are the keys that were installed, by
    account, None if unknown, `own_accounts` the accounts for people only, `unsure` keys that may have been installed,
    as it did not answer; `asks` is true if its process has a gate (`engine/network/gate.py`). `buses` is the last bus
    of each disk, including detached ones: its system may have no driver for another one. `pressed` is when the power
    button of its present process was pressed (Unix seconds), None if it was not; `forced` is when Dacha powered it off.
    `moving` is a change of addresses that its system may still take back (`engine/apply/readdress.py`).
    `starts` counts its starts. `replugged` is true if a disk was attached to its present process or detached from it.
    """

    def __init__(
        self,
        *,
        machine: Machine | None = None,
        process: Process | None = None,
        seed: str | None = None,
        stopped_on_purpose: bool = False,
        installing: float | None = None,
        installed: str | None = None,
        uid: int | None = None,
        removed: float | None = None,
        delete_disks: list[str] | None = None,
        again: int = 0,
        accepted_key: str | None = None,
        told: str | None = None,
        instance: str | None = None,
        keyed: dict[str, list[str]] | None = None,
        own_accounts: list[str] | None = None,
        unsure: dict[str, list[str]] | None = None,
        asks: bool = False,
        buses: dict[str, str] | None = None,
        pressed: float | None = None,
        bare: str | None = None,
        inside: dict[str, str] | None = None,
        forced: float | None = None,
        starts: int = 0,
        replugged: bool = False,
        moving: dict[str, Any] | None = None,
    ) -> None:
        self.machine = machine
        self.process = process
        self.seed = seed
        self.stopped_on_purpose = stopped_on_purpose
        self.installing = installing
        self.installed = installed
        self.uid = uid
        self.removed = removed
        self.delete_disks = delete_disks or []
        self.again = again
        self.accepted_key = accepted_key
        self.told = told
        self.instance = instance
        self.keyed = keyed
        self.own_accounts = own_accounts or []
        self.unsure = unsure or {}
        self.asks = asks
        self.buses = buses or {}
        self.pressed = pressed
        self.bare = bare
        self.inside = inside
        self.forced = forced
        self.starts = starts
        self.replugged = replugged
        self.moving = moving

    @property
    def machine_type(self) -> str | None:
        """The version of its board at its last start; None if it is not known."""
        return self.machine.get("machine_type") if self.machine else None


def record_from(raw: dict[str, Any]) -> Record:
    """A record from its file's contents."""
    machine = raw.get("machine")
    return Record(
        machine=machine_from(machine) if machine else None,
        process=process_from(raw.get("process")),
        seed=raw.get("seed"),
        stopped_on_purpose=bool(raw.get("stopped_on_purpose", raw.get("left_off"))),
        installing=raw.get("installing"),
        installed=raw.get("installed"),
        uid=raw.get("uid"),
        removed=raw.get("removed"),
        delete_disks=list(raw.get("delete_disks") or ()),
        again=int(raw.get("again") or 0),
        accepted_key=raw.get("accepted_key"),
        told=raw.get("told"),
        instance=raw.get("instance"),
        keyed=raw.get("keyed"),
        own_accounts=list(raw.get("own_accounts") or ()),
        unsure=raw.get("unsure"),
        asks=bool(raw.get("asks")),
        pressed=raw.get("pressed"),
        bare=raw.get("bare"),
        inside=raw.get("inside"),
        forced=raw.get("forced"),
        starts=int(raw.get("starts") or 0),
        replugged=bool(raw.get("replugged")),
        moving=raw.get("moving"),
        buses=dict(raw.get("buses") or {}) | {d["name"]: d["bus"] for d in (machine or {}).get("disks", ())},
    )
