"""A TPM 2.0 for a guest, emulated by swtpm: one process per guest.

It exits when QEMU disconnects. If QEMU never connected, or exited during the handshake, it would wait forever: the
process is recorded, and terminated later.
"""

from __future__ import annotations

import fcntl
import os
import stat
import subprocess
import time
from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.accounts import Account, become
from dacha.host.facts import program
from dacha.host.processes import holder, identify, kill, process_from, wait_gone
from dacha.host.records import read_record, write_record
from dacha.host.unix_socket import listen
from dacha.hypervisor.command_line import TPM

_VERSION = 1
# How long it may take to exit after its guest (seconds).
_END_S = 2.0


def find() -> str:
    """The path of the program. Raises HostError if it is not installed."""
    found = program("swtpm")
    if not found:
        raise HostError("swtpm is not installed: it emulates a guest's TPM", remedy="on Debian: apt install swtpm")
    return found


def end(note: Path) -> None:
    """Terminate the recorded program, after its guest has exited. Raises HostError for a newer record."""
    known = process_from(read_record(note, _VERSION).get("process"))
    if known and not wait_gone(known, _END_S):
        kill(known)
        wait_gone(known, _END_S)
    note.unlink(missing_ok=True)


def start(run: Path, state: Path, note: Path, log: Path, account: Account | None = None) -> None:
    """Start a TPM with its memory in `state`; QEMU finds its socket in `run`, and it exits when QEMU disconnects. As
    `account`, it owns its memory, and can open nothing else. The process is recorded in `note`. Raises HostError."""
    found = find()
    end(note)
    state.mkdir(mode=0o700, exist_ok=True)
    lock = os.open(state / "process.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    try:
        deadline = time.monotonic() + _END_S
        while True:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                # An unknown process: started by an older Dacha, or by a command that was killed at that moment.
                if time.monotonic() >= deadline:
                    raise HostError(
                        "the TPM emulator of the guest's last start is still running",
                        where=str(state),
                        why=holder(state / "process.lock") or "another user's process",
                        remedy="end that program, then start the guest again",
                    ) from None
                time.sleep(0.02)
        if account:
            _give(state, account)
        with listen(run / TPM) as control, log.open("wb") as out:
            if account:
                os.chown(run / TPM, account.uid, account.gid)
            (run / TPM).chmod(0o600)
            child = subprocess.Popen(
                [
                    *(become(account, low_ports=False) if account else ()),
                    found, "socket", "--tpm2", "--terminate", "--tpmstate", "dir=.,mode=0600", "--ctrl",
                    f"type=unixio,fd={control.fileno()}", "--flags", "startup-clear", "--seccomp", "action=kill",
                ],
                cwd=state, stdin=subprocess.DEVNULL, stdout=out, stderr=out, start_new_session=True,
                pass_fds=(lock, control.fileno()),
                env={"PATH": os.environ.get("PATH", "/usr/bin:/bin"), "LC_ALL": "C.UTF-8"},
            )  # fmt: skip
        try:
            write_record(note, _VERSION, {"process": identify(child.pid)}, 0o600)
        except HostError:
            child.kill()
            child.wait()
            raise
    finally:
        os.close(lock)
    # QEMU waits for an answer on the socket; a program that exits at once is reported here.
    time.sleep(0.02)
    if child.poll() is not None:
        words = log.read_text(errors="replace").strip() or f"it exited with status {child.returncode}"
        raise HostError("swtpm did not start", why=words, remedy=f"see its log: {log}")


def _give(state: Path, account: Account) -> None:
    """Change the owner of the TPM's memory. In an older Dacha it was root's; anything but a regular file is left
    alone."""
    folder = os.open(state, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        os.fchown(folder, account.uid, account.gid)
        for name in os.listdir(folder):
            seen = os.stat(name, dir_fd=folder, follow_symlinks=False)
            if stat.S_ISREG(seen.st_mode) and seen.st_nlink == 1 and name != "process.lock":
                os.chown(name, account.uid, account.gid, dir_fd=folder, follow_symlinks=False)
    finally:
        os.close(folder)
