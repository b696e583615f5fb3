"""Folders of this host in a guest, by virtio-fs: one daemon per folder, started beside QEMU and exiting with it."""

from __future__ import annotations

import os
import select
import subprocess
import sys
from collections.abc import Iterable, Mapping
from pathlib import Path

from dacha.core.apply.machine import MachineShare
from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.host.accounts import Account
from dacha.host.facts import program
from dacha.host.unix_socket import listen
from dacha.hypervisor.command_line import share_socket

# Its usual paths: it is in no search path.
DAEMONS = ("/usr/libexec/virtiofsd", "/usr/lib/qemu/virtiofsd", "/usr/lib/virtiofsd", "/usr/libexec/qemu/virtiofsd")
_READY_S = 10.0


def find() -> str | None:
    """The path of the daemon, if it is installed."""
    return next((d for d in DAEMONS if os.access(d, os.X_OK)), None) or program("virtiofsd")


class Opened(NamedTuple):
    """A folder as examined: its real path, its identity (device and number), its owner."""

    path: str
    device: int
    number: int
    uid: int
    gid: int


def look(share: MachineShare) -> Opened:
    """Examine the folder of a share once, so that the checked folder is the one that is served. Raises HostError."""
    try:
        folder = os.open(share["folder"], os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    except OSError as e:
        what = f"folder {share['folder']} of share {share['name']} is not accessible"
        raise HostError(what, why=e.strerror or str(e), remedy=f"create it: mkdir {share['folder']}") from e
    try:
        seen = os.fstat(folder)
        return Opened(
            str(Path(f"/proc/self/fd/{folder}").readlink()), seen.st_dev, seen.st_ino, seen.st_uid, seen.st_gid
        )
    finally:
        os.close(folder)


def start(
    run: Path, log: Path, shares: Iterable[MachineShare], opened: Mapping[str, Opened], account: Account | None = None
) -> None:
    """Start the daemon of each folder, as it was `opened`; QEMU finds its socket in `run`. Each has the rights of its
    folder's owner and shows all files as the guest's user. Raises HostError."""
    daemon = find()
    for share in shares:
        if daemon is None:
            raise HostError(
                "virtiofsd is not installed: it serves shared folders",
                remedy="on Debian: apt install qemu-system-common (12), virtiofsd (13 and later)",
            )
        _start_one(run, log, share, opened[share["name"]], account, daemon)


def _start_one(run: Path, log: Path, share: MachineShare, opened: Opened, account: Account | None, daemon: str) -> None:
    from dacha.hypervisor.beside import share_server

    name, folder = share["name"], opened.path
    # Without the privilege to change the user, it serves the folder as itself.
    uid, gid = (opened.uid, opened.gid) if account else (os.geteuid(), os.getegid())
    socket = run / share_socket(name)
    with listen(socket) as control, log.open("ab") as out:
        if account:
            os.chown(socket, account.uid, account.gid)
        socket.chmod(0o600)
        guest = str(share["owner"])
        which = f"{opened.device}:{opened.number}"
        words = [str(control.fileno()), folder, which, str(uid), str(gid), guest, guest]
        child = subprocess.Popen(
            [sys.executable, "-I", "-S", share_server.__file__, *words, "ro" if share["read_only"] else "rw", daemon],
            cwd="/", stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=out, start_new_session=True,
            pass_fds=(control.fileno(),), env={"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8", "DACHA_SHARE": folder},
        )  # fmt: skip
        assert child.stdout
        ready = select.select([child.stdout], [], [], _READY_S)[0] and os.read(child.stdout.fileno(), 64)
        child.stdout.close()
    if ready != b"ready\n":
        child.kill()
        child.wait()
        words_of_it = log.read_text(errors="replace").strip().splitlines()[-1:]
        raise HostError(
            f"folder {folder} of share {name} cannot be served", why=(words_of_it or ["virtiofsd exited at once"])[0],
            remedy=f"see its log: {log}; virtiofsd requires a user namespace",
        )  # fmt: skip
