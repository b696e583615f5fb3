"""The files of a lab's guests: their paths in the state folder and the run folder."""

from __future__ import annotations

from pathlib import Path

# The beginning of the name of a folder for images that are being saved to an archive.
ARCHIVE = ".archive-"


class GuestFiles:
    """The paths of every file that is kept for a guest."""

    def __init__(self, guests: Path, run: Path) -> None:
        self._guests, self._run = guests, run

    def guest(self, name: str) -> Path:
        return self._guests / name

    def run(self, name: str) -> Path:
        return self._run / name

    def disk(self, name: str, disk: str) -> Path:
        """A disk's file, or a link to it if the disk is in a storage."""
        return self.guest(name) / f"disk-{disk}.qcow2"

    def disk_note(self, name: str, disk: str) -> Path:
        """The record of a disk's backing images (`hypervisor/images/chain.py`), which exists as long as the disk
        should."""
        return self.disk(name, disk).with_suffix(".json")

    def disks(self, name: str) -> list[tuple[str, Path]]:
        """Every disk that was created for a guest, including detached ones: name and file."""
        found = sorted(self.guest(name).glob("disk-*.qcow2"))
        return [(p.name.removeprefix("disk-").removesuffix(".qcow2"), p) for p in found]

    def process_lock(self, name: str) -> Path:
        return self.guest(name) / "process.lock"

    def tpm(self, name: str) -> Path:
        """The folder with the memory of a guest's TPM."""
        return self.guest(name) / "tpm"

    def tpm_note(self, name: str) -> Path:
        """The process that emulates it: recorded where that process cannot write."""
        return self.guest(name) / "tpm.json"

    def share_password(self, name: str) -> Path:
        """The guest's password for its SMB shares."""
        return self.guest(name) / "share_password"

    def screen_password(self, name: str) -> Path:
        return self.guest(name) / "screen_password"

    def saved_memory(self, name: str) -> Path:
        """The memory of a guest that was saved to disk."""
        return self.guest(name) / "saved-memory"

    def saved_note(self, name: str) -> Path:
        """The record of that; it exists exactly as long as the guest is saved (`engine/power/saved.py`)."""
        return self.guest(name) / "saved.json"

    def saving_note(self, name: str) -> Path:
        """Exists while a command saves a guest."""
        return self.guest(name) / "saving"

    def continuing_note(self, name: str) -> Path:
        """Exists from the moment when a saved guest is about to run again until its state is deleted."""
        return self.guest(name) / "continuing.json"

    def has_unsettled(self, name: str) -> bool:
        """True if a killed command may have left a copy, an archive, a snapshot or a move half done."""
        folder = self.guest(name)
        return not any(folder.iterdir()) or any(
            p.name in ("snapshots", "copying") or p.name.startswith(ARCHIVE) or p.suffix == ".moving"
            for p in folder.iterdir()
        )

    def is_archived(self, name: str) -> bool:
        """True while a command writes the guest to an archive: the guest's own folder has a locked one for it."""
        from dacha.host.files import held

        return any(held(folder) for folder in self.guest(name).glob(f"{ARCHIVE}*"))

    def refuse_if_archived(self, name: str) -> None:
        """Refuse what would disturb that. Raises BusyError."""
        if self.is_archived(name):
            from dacha.core.errors import BusyError

            raise BusyError(
                f"{name} is being saved to an archive",
                remedy="wait until that is complete, then try again",
                holder="dacha guest save",
            )

    def gate_lock(self, name: str) -> Path:
        """Held by the gate process of a guest in user mode."""
        return self.guest(name) / "gate.lock"

    def install_lock(self, name: str) -> Path:
        """Held by the process that follows a guest's installation."""
        return self.guest(name) / "install.lock"

    def passwords(self, name: str) -> Path:
        """The password hashes of its users, readable by this user only."""
        return self.guest(name) / "passwords.json"

    def end_note(self, name: str) -> Path:
        """The last end of a guest's process that is in the log."""
        return self.guest(name) / "end.json"

    def minded_note(self, name: str) -> Path:
        """The number of the start whose end the caretaker has dealt with."""
        return self.guest(name) / "minded"
