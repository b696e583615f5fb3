"""A lab's place in the state folder: its files, and the records of its guests.

Everything here can be rebuilt, except disks and host keys. Layout, below $DACHA_STATE/labs/NAME: lab.json,
applied.toml, known_hosts, lock, and guests/NAME with guest.json, host_key, disk-NAME.qcow2, seed.iso, console.log,
qemu.log.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError, UsageError
from dacha.engine.guest_files import GuestFiles
from dacha.engine.kept_elsewhere import away_words, renamed_words
from dacha.engine.record import Record, record_from
from dacha.host import folders
from dacha.host.files import held, locked, replace_file, sweep
from dacha.host.processes import boot_id
from dacha.host.records import DAMAGED, read_record, write_record

# Raised when the meaning of a record changes; an older Dacha then refuses instead of misreading.
VERSION = 1
# How long a second command waits for the lab before it reports the holder.
LOCK_WAIT_S = 600.0


class Home(GuestFiles):
    """The folders and records of one lab."""

    def __init__(self, lab: str) -> None:
        self.lab = lab
        # A link if the lab was moved to another state folder.
        self.place = folders.state() / "labs" / lab
        self.folder = self.place.resolve() if self.place.is_symlink() else self.place
        self.run_folder = folders.run() / lab
        super().__init__(self.folder / "guests", self.run_folder)

    @property
    def command_lock(self) -> Path:
        """Held by a command that changes something, and by the caretaker while it restores links."""
        return self.folder / "lock"

    @property
    def announced_address(self) -> Path:
        """This host's LAN address as apply last printed it."""
        return self.folder / "lan-address"

    def is_running(self, name: str) -> bool:
        """True while the guest's process lives."""
        return held(self.process_lock(name))

    def leases(self, network: str) -> Path:
        """The DHCP leases of a network, one a line."""
        return self.folder / f"leases-{network}"

    @property
    def kernel_note(self) -> Path:
        """The rules that were loaded last; it exists as long as the lab may have links."""
        return self.folder / "kernel.json"

    @property
    def firewall_note(self) -> Path:
        """The lab's rules in this host's own firewall."""
        return self.folder / "firewall.json"

    @property
    def rules_lock(self) -> Path:
        return self.folder / "rules.lock"

    @property
    def router_note(self) -> Path:
        """The mappings that the router granted."""
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
        """Held by the caretaker while it runs."""
        return self.folder / "caretaker.lock"

    @property
    def caretaker_log(self) -> Path:
        return self.folder / "caretaker.log"

    @property
    def sightings(self) -> Path:
        """The addresses that guests were seen to use."""
        return self.folder / "seen.json"

    @property
    def renaming(self) -> Path:
        """A guest's renaming in progress."""
        return self.folder / "renaming.json"

    @property
    def rollback_note(self) -> Path:
        """A bridge that took over this host's addresses, and is removed unless it is confirmed."""
        return self.folder / "way-back.json"

    @property
    def rollback_lock(self) -> Path:
        return self.folder / "way-back.lock"

    @property
    def known_hosts(self) -> Path:
        return self.folder / "known_hosts"

    @property
    def log(self) -> Path:
        """What happened to the lab, one event a line; `.1` is the part before."""
        return self.folder / "log"

    @property
    def versions(self) -> Path:
        """The folder of the lab file's applied versions, each named by its time (Unix seconds)."""
        return self.folder / "versions"

    @property
    def usage(self) -> Path:
        """The folder of what the caretaker measured: a file for each day (UTC)."""
        return self.folder / "usage"

    @property
    def applied(self) -> Path:
        return self.folder / "applied.toml"

    def guests(self) -> list[str]:
        """Every guest with files here, in the lab file or not."""
        try:
            return sorted(p.name for p in (self.folder / "guests").iterdir() if p.is_dir())
        except OSError:
            return []

    def make_guest(self, name: str) -> None:
        """Create the guest's folders, and remove incomplete files of killed commands."""
        folders.make_private(self.guest(name))
        # It is in a folder that only this user can enter, and may belong to the user that guests run as.
        self.run(name).mkdir(mode=0o700, exist_ok=True)
        sweep(self.guest(name))

    def forget_guest(self, name: str) -> None:
        """Remove all files of a guest. The caller has checked that it is off and has no disk."""
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
        """Another lab with guests that was applied from this very file, if this one has no files: the name was changed
        by hand."""
        if self.guests():
            return None
        base = self.folder.parent
        for folder in sorted(base.iterdir()) if base.is_dir() else ():
            other = Home(folder.name)
            if other.lab != self.lab and other.owner() == lab_file and other.guests():
                return other.lab
        return None

    def claim(self, lab_file: Path) -> None:
        """Record that this lab is described by `lab_file`. Raises UsageError if another existing file describes a lab
        of the same name: two files would control the same guests."""
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
        """Record that this lab is described by `lab_file`, whatever did before."""
        write_record(self.folder / "lab.json", VERSION, {"lab_file": str(lab_file)})

    def note_boot(self) -> None:
        """Record that the lab was started after this host's boot."""
        replace_file(self.folder / "boot", boot_id())

    def rebooted(self) -> bool:
        """True if this host was rebooted after the lab was last started."""
        try:
            return (self.folder / "boot").read_text() != boot_id()
        except OSError:
            return False

    def read(self, name: str) -> Record:
        """A guest's record; an empty one if it is missing or damaged: running guests are found by their monitors."""
        try:
            return record_from(read_record(self.guest(name) / "guest.json", VERSION))
        except DAMAGED:
            return Record()

    def write(self, name: str, record: Record) -> None:
        """Write a guest's record. Raises HostError."""
        write_record(self.guest(name) / "guest.json", VERSION, vars(record))
