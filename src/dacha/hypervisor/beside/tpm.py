"""A TPM 2.0 for a guest, played by the program swtpm: one process a guest, that ends with it.

It ends by itself when QEMU has left. One whose QEMU never came, or left before it had said all that it says first,
would wait for ever: it is noted which process it is, and that one is ended.
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
# How long one may take to end after its guest (seconds).
_END_S = 2.0


def find() -> str:
    """The program. Raises HostError when it is not on this machine."""
    found = program("swtpm")
    if not found:
        raise HostError("swtpm is not installed: it emulates a guest's TPM", remedy="on Debian: apt install swtpm")
    return found


def end(note: Path) -> None:
    """See to it that the program that was noted there ends, as its guest has. Raises HostError for a newer note."""
    known = process_from(read_record(note, _VERSION).get("process"))
    if known and not wait_gone(known, _END_S):
        kill(known)
        wait_gone(known, _END_S)
    note.unlink(missing_ok=True)


def start(run: Path, state: Path, note: Path, log: Path, account: Account | None = None) -> None:
    """Start the TPM whose memory is in `state`; QEMU finds it in `run`, and it ends when that leaves. As `account` it
    owns its memory, and can open nothing else. Which process it is, is noted in `note`. Raises HostError."""
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
                # One that is not known: an older dacha started it, or a command that was killed at that moment.
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
    # QEMU waits for what answers on the socket; a program that ended at once is told here.
    time.sleep(0.02)
    if child.poll() is not None:
        words = log.read_text(errors="replace").strip() or f"it exited with status {child.returncode}"
        raise HostError("swtpm did not start", why=words, remedy=f"see its log: {log}")


def _give(state: Path, account: Account) -> None:
    """Make the TPM's memory that user's. It was root's in an older dacha; what is no plain file stays as it is."""
    folder = os.open(state, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        os.fchown(folder, account.uid, account.gid)
        for name in os.listdir(folder):
            seen = os.stat(name, dir_fd=folder, follow_symlinks=False)
            if stat.S_ISREG(seen.st_mode) and seen.st_nlink == 1 and name != "process.lock":
                os.chown(name, account.uid, account.gid, dir_fd=folder, follow_symlinks=False)
    finally:
        os.close(folder)
