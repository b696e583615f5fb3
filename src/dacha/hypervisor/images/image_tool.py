"""QEMU's own image tool, run with few rights, and the images that it is given."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.host import confine
from dacha.host.accounts import helper
from dacha.host.facts import program
from dacha.hypervisor.images import passphrases
from dacha.hypervisor.images.passphrases import WORK_MS, given

# For an encrypted disk the tool measures how fast this host derives a key, which fails at times on a busy one: nothing
# was written then, and it is tried again, after pauses of so many seconds more each.
_UNMEASURED, _ATTEMPTS, _PAUSE_S = "Unable to get accurate CPU usage", 5, 0.5


class Image(NamedTuple):
    """An image file: its format and the size of its disk in bytes; `files` are itself and its backing images; `key` is
    its passphrase if it is encrypted and its contents are needed."""

    path: Path
    format: str
    size: int
    files: tuple[Path, ...]
    key: bytes | None = None

    def as_source(self) -> list[str]:
        """The image for QEMU's tool; its passphrase is the secret `key`."""
        if self.key is None:
            return ["-f", self.format, str(self.path)]
        return ["--image-opts", f"{options(self.path, self.format)},encrypt.key-secret=key"]


def options(path: Path, form: str) -> str:
    """An image in the form of QEMU's tool in which it can have a secret."""
    return f"driver={form},file.driver=file,file.filename={escaped(path)}"


def escaped(path: Path) -> str:
    """A path as a value in that form: commas are doubled (qemu(1))."""
    return str(path).replace(",", ",,")


def alone(path: Path, key: bytes | None, name: str = "key") -> list[str]:
    """A qcow2 image for QEMU's tool without its backing image, whatever a guest wrote into the header; `name` is the
    secret that opens it if it is encrypted."""
    return ["--image-opts", f"{options(path, 'qcow2')},backing=" + (f",encrypt.key-secret={name}" if key else "")]


def encrypted_by(key: bytes | None) -> list[str]:
    """The options of a new image that is encrypted by the secret `new`, if it has a passphrase."""
    if key is None:
        return []
    return ["-o", f"encrypt.format=luks,encrypt.key-secret=new,encrypt.iter-time={WORK_MS}"]


def tool() -> str:
    found = program("qemu-img")
    if not found:
        raise HostError(
            "qemu-img is not installed",
            why="it creates disks",
            remedy="install QEMU's tools; on Debian: apt install qemu-utils",
        )
    return found


def run_with(
    keys: Mapping[str, bytes | None], command: list[str], failed: str, *, read: Iterable[Path] = (),
    write: Iterable[Path] = (),
) -> None:  # fmt: skip
    """Run QEMU's image tool. `keys` are its secrets by identifier; None means no secret. Raises HostError with the
    message `failed`."""
    code, _, err = ran(keys, command, read=read, write=write)
    if code:
        raise HostError(failed, why=words_of(err))


def present(keys: Mapping[str, bytes | None]) -> dict[str, bytes]:
    return {name: key for name, key in keys.items() if key is not None}


def ran(
    keys: Mapping[str, bytes | None], command: list[str], *, read: Iterable[Path] = (), write: Iterable[Path] = (),
    seconds: int = confine.SECONDS,
) -> tuple[int, str, str]:  # fmt: skip
    """Run QEMU's image tool: its exit code, output and error output. The secrets are options of its command. It does
    not outlive this process: what it does to an image, nobody would know of."""
    for attempt in range(_ATTEMPTS):
        with given(present(keys), helper()) as (words, pipes):
            whole = [tool(), command[0], *words, *command[1:]]
            done = confine.run(whole, helper(), read=read, write=write, seconds=seconds, pipes=pipes, with_parent=True)
        if done[0] == 0 or _UNMEASURED not in done[2]:
            break
        time.sleep(attempt * _PAUSE_S)
    return done


def words_of(complaint: str) -> str:
    if "Invalid password, cannot unlock any keyslot" in complaint:
        passphrases.forget()
        return "the passphrase is wrong"
    return complaint.strip().removeprefix("qemu-img: ")
