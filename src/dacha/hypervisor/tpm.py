"""A TPM 2.0 for a guest, played by the program swtpm: one process a guest, that ends with it."""

from __future__ import annotations

import fcntl
import os
import subprocess
import time
from pathlib import Path

from dacha.core.errors import HostError
from dacha.host.accounts import Account
from dacha.host.facts import program
from dacha.hypervisor.command_line import TPM

_WAIT_S = 5.0


def find() -> str:
    """The program. Raises HostError when it is not on this machine."""
    found = program("swtpm")
    if not found:
        raise HostError("swtpm is not on this machine: it plays a guest's TPM", remedy="on Debian: apt install swtpm")
    return found


def start(run: Path, state: Path, log: Path, account: Account | None = None) -> None:
    """Start the TPM whose memory is in `state`; it listens in `run` for QEMU, which runs as
    `account`, and ends when that leaves. Raises HostError."""
    found = find()
    owner = f",uid={account.uid},gid={account.gid}" if account else ""
    state.mkdir(mode=0o700, exist_ok=True)
    lock = os.open(state / "process.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        deadline = time.monotonic() + _WAIT_S
        while True:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                # The one of the guest's last process ends a moment after it.
                if time.monotonic() >= deadline:
                    raise HostError(
                        "the TPM's program of the guest's last start still runs", remedy=f"its state is in {state}"
                    ) from None
                time.sleep(0.02)
        with log.open("wb") as out:
            child = subprocess.Popen(
                [
                    found, "socket", "--tpm2", "--terminate", "--tpmstate", f"dir={state},mode=0600", "--ctrl",
                    f"type=unixio,path={TPM},mode=0600{owner}", "--flags", "startup-clear", "--seccomp", "action=kill",
                ],
                cwd=run, stdin=subprocess.DEVNULL, stdout=out, stderr=out, start_new_session=True, pass_fds=(lock,),
                env={"PATH": os.environ.get("PATH", "/usr/bin:/bin"), "LC_ALL": "C.UTF-8"},
            )  # fmt: skip
    finally:
        os.close(lock)
    while not (run / TPM).exists():
        if child.poll() is not None or time.monotonic() >= deadline:
            words = log.read_text(errors="replace").strip() or f"it ended with status {child.poll()}"
            raise HostError("swtpm did not start", why=words, remedy=f"its words are kept in {log}")
        time.sleep(0.005)
