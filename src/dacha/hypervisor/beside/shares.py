"""Folders of this host in a guest, by virtio-fs: one daemon a folder, started beside QEMU and gone with it."""

from __future__ import annotations

import os
import select
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path

from dacha.core.apply.machine import MachineShare
from dacha.core.errors import HostError
from dacha.host.accounts import Account
from dacha.host.facts import program
from dacha.host.unix_socket import listen
from dacha.hypervisor.command_line import share_socket

# Where distributions keep it: no search path has it.
DAEMONS = ("/usr/libexec/virtiofsd", "/usr/lib/qemu/virtiofsd", "/usr/lib/virtiofsd", "/usr/libexec/qemu/virtiofsd")
_READY_S = 10.0


def find() -> str | None:
    """The daemon, where this host has one."""
    return next((d for d in DAEMONS if os.access(d, os.X_OK)), None) or program("virtiofsd")


def start(run: Path, log: Path, shares: Iterable[MachineShare], account: Account | None = None) -> None:
    """Start what serves each folder; QEMU finds it in `run`. Each has the powers of its folder's owner and shows all
    of it as the guest's user. Raises HostError."""
    daemon = find()
    for share in shares:
        if daemon is None:
            raise HostError(
                "virtiofsd is not on this machine: it serves shared folders",
                remedy="on Debian: apt install qemu-system-common (12), virtiofsd (13 and later)",
            )
        _start_one(run, log, share, account, daemon)


def _start_one(run: Path, log: Path, share: MachineShare, account: Account | None, daemon: str) -> None:
    from dacha.hypervisor.beside import share_server

    name, folder = share["name"], share["folder"]
    try:
        owner = Path(folder).stat()
    except OSError as e:
        raise HostError(f"folder {folder} of share {name} cannot be reached", why=e.strerror or str(e)) from e
    # Who can become nobody else serves it as what he is.
    uid, gid = (owner.st_uid, owner.st_gid) if account else (os.geteuid(), os.getegid())
    socket = run / share_socket(name)
    with listen(socket) as control, log.open("ab") as out:
        if account:
            os.chown(socket, account.uid, account.gid)
        socket.chmod(0o600)
        guest = str(share["owner"])
        words = [str(control.fileno()), folder, str(uid), str(gid), guest, guest]
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
            f"folder {folder} of share {name} cannot be served", why=(words_of_it or ["it ended at once"])[0],
            remedy=f"its words are kept in {log}; a user namespace of its own is what it needs",
        )  # fmt: skip
