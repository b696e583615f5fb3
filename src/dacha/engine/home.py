"""A lab's place in the state folder: what was made for it, and what is known of its guests.

Everything here can be rebuilt, except disks and host keys. Layout, below $DACHA_STATE/labs/NAME:
lab.json, applied.toml, known_hosts, lock, and guests/NAME with guest.json, host_key, disk-NAME.qcow2,
seed.iso, console.log, qemu.log.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError, UsageError
from dacha.engine.kept_elsewhere import away_words, renamed_words
from dacha.engine.record import Record, record_from
from dacha.host import folders
from dacha.host.files import locked, replace_file, sweep
from dacha.host.processes import boot_id
from dacha.host.records import DAMAGED, read_record, write_record

# Raised when a record's meaning changes; an older Dacha then refuses instead of misreading.
VERSION = 1
# Two commands at once: the second waits this long, then says who holds the lab.
LOCK_WAIT_S = 600.0


class Home:
    """The folders and records of one lab."""

    def __init__(self, lab: str) -> None:
        self.lab = lab
        # A link where the lab was moved to another state folder.
        self.place = folders.state() / "labs" / lab
        self.folder = self.place.resolve() if self.place.is_symlink() else self.place
        self.run_folder = folders.run() / lab
        self._guests = self.folder / "guests"

    @property
    def command_lock(self) -> Path:
        """Held by a command that changes something, and by the caretaker while it restores links."""
        return self.folder / "lock"

    @property
    def announced_address(self) -> Path:
        """Where this host's address on the LAN is kept as apply said it last."""
        return self.folder / "lan-address"

    def guest(self, name: str) -> Path:
        return self._guests / name

    def run(self, name: str) -> Path:
        return self.run_folder / name

    def disk(self, name: str, disk: str) -> Path:
        """A disk's file; a link to it where the disk lies in a storage."""
        return self.guest(name) / f"disk-{disk}.qcow2"

    def disk_note(self, name: str, disk: str) -> Path:
        """What a disk was made on (`hypervisor/images/chain.py`): there as long as the disk should be."""
        return self.disk(name, disk).with_suffix(".json")

    def disks(self, name: str) -> list[tuple[str, Path]]:
        """Every disk that was made for a guest, also one that it no longer has: its name and file."""
        found = sorted(self.guest(name).glob("disk-*.qcow2"))
        return [(p.name.removeprefix("disk-").removesuffix(".qcow2"), p) for p in found]

    def process_lock(self, name: str) -> Path:
        return self.guest(name) / "process.lock"

    def tpm(self, name: str) -> Path:
        """The folder of what a guest's TPM remembers."""
        return self.guest(name) / "tpm"

    def tpm_note(self, name: str) -> Path:
        """Which process plays it: out of that process's reach."""
        return self.guest(name) / "tpm.json"

    def share_password(self, name: str) -> Path:
        """What the guest opens its shared folders by SMB with."""
        return self.guest(name) / "share_password"

    def gate_lock(self, name: str) -> Path:
        """Held by the process that a guest in user mode asks before it connects."""
        return self.guest(name) / "gate.lock"

    def install_lock(self, name: str) -> Path:
        """Held by the process that follows a guest's installation."""
        return self.guest(name) / "install.lock"

    def leases(self, network: str) -> Path:
        """The DHCP leases of a network, one a line."""
        return self.folder / f"leases-{network}"

    def passwords(self, name: str) -> Path:
        """The hashes of passwords that its users have, for this user alone."""
        return self.guest(name) / "passwords.json"

    @property
    def kernel_note(self) -> Path:
        """What rules were loaded last; there as long as the lab may have links."""
        return self.folder / "kernel.json"

    @property
    def firewall_note(self) -> Path:
        """What was let pass in this host's own firewall."""
        return self.folder / "firewall.json"

    @property
    def rules_lock(self) -> Path:
        return self.folder / "rules.lock"

    @property
    def router_note(self) -> Path:
        """What the router above this host granted."""
        return self.folder / "router.json"

    @property
    def router_lock(self) -> Path:
        return self.folder / "router.lock"

    @property
    def caretaker_note(self) -> Path:
        """The caretaker's process."""
        return self.folder / "caretaker.json"

    @property
    def caretaker_lock(self) -> Path:
        """Held by the caretaker as long as it runs."""
        return self.folder / "caretaker.lock"

    @property
    def caretaker_log(self) -> Path:
        return self.folder / "caretaker.log"

    @property
    def sightings(self) -> Path:
        """Which addresses guests were seen to use."""
        return self.folder / "seen.json"

    @property
    def renaming(self) -> Path:
        """A renaming of a guest that goes on."""
        return self.folder / "renaming.json"

    @property
    def rollback_note(self) -> Path:
        """A bridge that took over this host's addresses, and is unmade unless it is confirmed."""
        return self.folder / "way-back.json"

    @property
    def rollback_lock(self) -> Path:
        return self.folder / "way-back.lock"

    @property
    def known_hosts(self) -> Path:
        return self.folder / "known_hosts"

    @property
    def applied(self) -> Path:
        return self.folder / "applied.toml"

    def guests(self) -> list[str]:
        """Every guest that something was made for, in the lab file or not."""
        try:
            return sorted(p.name for p in (self.folder / "guests").iterdir() if p.is_dir())
        except OSError:
            return []

    def make_guest(self, name: str) -> None:
        """Make the guest's folders and clear what a killed command left half-written."""
        folders.make_private(self.guest(name))
        # It lies in a folder that only this user can enter, and may belong to the user whom guests run as.
        self.run(name).mkdir(mode=0o700, exist_ok=True)
        sweep(self.guest(name))

    def forget_guest(self, name: str) -> None:
        """Remove everything that was made for a guest. Whoever calls has seen that it is off and has no disk."""
        import shutil

        shutil.rmtree(self.guest(name), ignore_errors=True)
        shutil.rmtree(self.run(name), ignore_errors=True)

    @property
    def away(self) -> bool:
        """True for a lab that was moved to a state folder that does not exist now."""
        return self.place.is_symlink() and not self.folder.is_dir()

    def refuse_if_away(self) -> None:
        """Refuse such a lab: nothing is created in its place. Raises HostError."""
        if self.away:
            what, remedy = away_words(self.lab, self.folder, self.place)
            raise HostError(what, why="dacha lab move put it there; its file system may not be mounted", remedy=remedy)

    @contextlib.contextmanager
    def lock(self, doing: str, lab_file: Path, on_wait: Any = None) -> Iterator[None]:
        """Hold the lab for a command that changes something. Raises BusyError, HostError, UsageError."""
        self.refuse_if_away()
        folders.make_private(folders.state())
        folders.make_private(self.folder)
        folders.make_run()
        folders.make_private(self.run_folder)
        with locked(self.command_lock, f"dacha {doing}", LOCK_WAIT_S, on_wait):
            self.claim(lab_file)
            sweep(self.folder)
            yield

    def owner(self) -> Path | None:
        """The lab file that this lab was last applied from."""
        noted = read_record(self.folder / "lab.json", VERSION).get("lab_file")
        return Path(noted) if noted and isinstance(noted, str) else None

    def former(self, lab_file: Path) -> str | None:
        """Another lab that has guests and was applied from this very file, if nothing is kept of this one: the file's
        lab was given another name by hand."""
        if self.guests():
            return None
        base = self.folder.parent
        for folder in sorted(base.iterdir()) if base.is_dir() else ():
            other = Home(folder.name)
            if other.lab != self.lab and other.owner() == lab_file and other.guests():
                return other.lab
        return None

    def claim(self, lab_file: Path) -> None:
        """Note that this lab is described by `lab_file`. Raises UsageError when another file, that still exists,
        describes a lab of the same name: two files would pull one set of guests apart."""
        owner = self.owner()
        if owner == lab_file:
            return
        if owner is not None and owner.is_file() and self.guests():
            raise UsageError(
                f"a lab named {self.lab} is already kept from {owner}",
                where=str(lab_file),
                why="two lab files with the same name would control the same guests",
                remedy="choose another name for this lab, or use that file",
            )
        if former := self.former(lab_file):
            what, remedy = renamed_words(former, self.lab)
            raise UsageError(what, where=str(lab_file), remedy=remedy)
        self.describe(lab_file)

    def describe(self, lab_file: Path) -> None:
        """Note that this lab is described by `lab_file`, whatever did before."""
        write_record(self.folder / "lab.json", VERSION, {"lab_file": str(lab_file)})

    def note_boot(self) -> None:
        """Note that the lab was brought up since this host started."""
        replace_file(self.folder / "boot", boot_id())

    def rebooted(self) -> bool:
        """True when this host was started anew since the lab was last brought up."""
        try:
            return (self.folder / "boot").read_text() != boot_id()
        except OSError:
            return False

    def read(self, name: str) -> Record:
        """A guest's record; an empty one when it has none, or a damaged one: what runs is found by its monitor."""
        try:
            return record_from(read_record(self.guest(name) / "guest.json", VERSION))
        except DAMAGED:
            return Record()

    def write(self, name: str, record: Record) -> None:
        """Keep a guest's record. Raises HostError."""
        write_record(
            self.guest(name) / "guest.json",
            VERSION,
            {
                "machine": record.machine,
                "process": record.process,
                "seed": record.seed,
                "stopped_on_purpose": record.stopped_on_purpose,
                "installing": record.installing,
                "installed": record.installed,
                "uid": record.uid,
                "removed": record.removed,
                "delete_disks": record.delete_disks,
                "again": record.again,
                "accepted_key": record.accepted_key,
                "told": record.told,
                "instance": record.instance,
                "keyed": record.keyed,
                "own_accounts": record.own_accounts,
                "unsure": record.unsure,
                "asks": record.asks,
                "buses": record.buses,
                "pressed": record.pressed,
            },
        )
