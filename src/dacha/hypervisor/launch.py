"""Start a guest's QEMU process, and confirm that it is up."""

from __future__ import annotations

import contextlib
import fcntl
import os
import resource
import subprocess
import time
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path

from dacha.core.errors import HostError, PeerError
from dacha.host import ask_first
from dacha.host.accounts import Account
from dacha.host.files import replace_file
from dacha.host.processes import Process, identify
from dacha.host.unix_socket import process_file
from dacha.hypervisor.command_line import QMP
from dacha.hypervisor.monitor.qmp import Qmp


def spawn(
    argv: list[str],
    run: Path,
    lock: Path,
    log: Path,
    beside: Iterable[Callable[[], None]] = (),
    descriptors: tuple[int, ...] = (),
    account: Account | None = None,
    asked: tuple[int, int] | None = None,
) -> subprocess.Popen[bytes]:
    """Start QEMU in `run`, in a session of its own, with its messages in `log`. Returns at once.

    `beside` start what QEMU connects to, after sockets of a former process were removed; `descriptors` are inherited.
    With `account`, that user owns the run folder with its sockets, and nothing else. `asked` is the gate that decides
    about its connections (`host.ask_first`): a socket and a process id. Raises HostError if the guest's process is
    already running.
    """
    fd = os.open(lock, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        for attempt in range(20):
            try:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                # Another process may be checking the lock (`running`), which takes microseconds.
                if attempt == 19:
                    raise HostError(f"{run.name} is already running", remedy="dacha status shows it") from None
                time.sleep(0.01)
        _empty(run)
        if account:
            os.chown(run, account.uid, account.gid)
        for start in beside:
            start()
        process_file(run).unlink(missing_ok=True)
        with log.open("wb") as out:
            child = subprocess.Popen(
                argv,
                cwd=run,
                stdin=subprocess.DEVNULL,
                stdout=out,
                stderr=out,
                start_new_session=True,
                preexec_fn=partial(_limit, account is not None, asked),
                pass_fds=(fd, *descriptors),
                env={"PATH": os.environ.get("PATH", "/usr/bin:/bin"), "LC_ALL": "C.UTF-8"} | _time_zone(),
            )
        replace_file(process_file(run), str(child.pid), 0o600)
        return child
    finally:
        os.close(fd)


# Threads and processes of a guest's own user; for an ordinary user, all of the user's processes count.
PROCESSES_MOST = 1024


def _empty(run: Path) -> None:
    """Remove what a killed process left in its run folder: QEMU would refuse to listen there. Its user may have created
    anything there, including folders. Raises HostError."""
    import shutil

    try:
        for entry in run.iterdir():
            if entry.is_dir() and not entry.is_symlink():
                shutil.rmtree(entry)
            else:
                entry.unlink()
    except OSError as e:
        raise HostError(
            f"cannot empty the run folder {run}", why=e.strerror or str(e), remedy=f"delete its contents: {run}"
        ) from e


def _limit(own_user: bool, asked: tuple[int, int] | None) -> None:
    """Between fork and exec: no core dumps, a limit of processes, and the gate."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    if own_user:
        resource.setrlimit(resource.RLIMIT_NPROC, (PROCESSES_MOST, PROCESSES_MOST))
    if asked:
        ask_first.ask(*asked)


def _time_zone() -> dict[str, str]:
    """The caller's time zone, for a guest with clock = "local"."""
    return {"TZ": os.environ["TZ"]} if "TZ" in os.environ else {}


def end(child: subprocess.Popen[bytes]) -> None:
    """End a process that was started just now, and has not run its guest."""
    child.kill()
    child.wait()


def confirm(child: subprocess.Popen[bytes], name: str, run: Path, log: Path, timeout_s: float = 30.0) -> Process:
    """Wait until a started QEMU answers on its monitor. Raises HostError with QEMU's messages if it exits instead."""
    deadline = time.monotonic() + timeout_s
    pause = 0.002
    while time.monotonic() < deadline:
        if child.poll() is not None:
            words = log.read_text(errors="replace").strip() or f"it exited with status {child.returncode}"
            raise HostError(f"QEMU did not start {name}", why=words, remedy=f"see its log: {log}")
        with contextlib.suppress(OSError, PeerError), Qmp(run / QMP, timeout_s=10):
            process = identify(child.pid)
            if process:
                return process
        # The socket appears when QEMU creates it; there is nothing to wait on before.
        time.sleep(pause)
        pause = min(pause * 1.2, 0.05)
    end(child)
    raise HostError(f"QEMU did not answer within {timeout_s:.0f} s while starting {name}", remedy=f"see its log: {log}")
