"""Disk images, created, copied and grown by QEMU's own image tool, atomically."""

from __future__ import annotations

import json
import os
import subprocess
from collections.abc import Callable, Mapping
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.units import exact_size, show_size
from dacha.host import confine
from dacha.host.accounts import helper
from dacha.hypervisor.images import bitmaps
from dacha.hypervisor.images.image_tool import (
    Image,
    alone,
    encrypted_by,
    escaped,
    options,
    present,
    ran,
    run_with,
    tool,
    words_of,
)
from dacha.hypervisor.images.images import header
from dacha.hypervisor.images.passphrases import given
from dacha.hypervisor.images.whole import whole

# The limit for measuring an image's contents (seconds of CPU time).
MEASURE_S = 60
# How much more than measured a copy may take: its own tables (bytes).
OVERHEAD = 64 << 20
# The reserved part of a file system and its maximum (bytes): running guests write to it.
RESERVE_PART, RESERVE_MOST = 50, 1 << 30


def grow(path: Path, size: int, key: bytes | None = None) -> None:
    """Grow a disk that no guest has open; `key` is its passphrase if it is encrypted. Raises HostError."""
    # It is our own disk, whatever its guest wrote to its header: no backing file is opened.
    header(path)
    bitmaps.forget(path, key)
    command = ["resize", "-q", *alone(path, key), str(size)]
    run_with({"key": key}, command, f"cannot grow the disk {path}", write=[path])


def rebase(path: Path, below: Path, form: str) -> None:
    """Change the name of the backing image of a disk that no guest has open. Its contents do not change, and no backing
    file is opened. Raises HostError."""
    command = ["rebase", "-q", "-u", "-f", "qcow2", "-F", form, "-b", str(below), str(path)]
    run_with({}, command, f"cannot use {below} as the backing image of disk {path}", write=[path])


def merge(upper: Path, path: Path) -> None:
    """Write everything that an image has of its own into a disk that no guest has open; the disk grows to its size. No
    file that a header names is opened. Raises HostError."""
    below = f"backing.driver=qcow2,backing.backing=,backing.file.driver=file,backing.file.filename={escaped(path)}"
    command = ["commit", "-q", "-d", "--image-opts", f"{options(upper, 'qcow2')},{below}"]
    run_with({}, command, f"cannot merge the changes into the disk {path}", write=[upper, path])


def create(path: Path, *, size: int | None, base: Image | None, full: bool, key: bytes | None = None) -> None:
    """Create a qcow2 disk: empty, or a copy-on-write overlay on `base`, with `size` bytes (default: the base's). `full`
    allocates all space at once; with a `key` it is encrypted by that passphrase. Raises HostError; then nothing is
    left."""
    refuse_smaller(base, size)
    wanted = size or (base.size if base else 0)
    if full:
        need_space(path.parent, wanted, f"a full disk of {show_size(wanted)}", 'set allocation = "thin"')
    command = ["create", "-q", "-f", "qcow2", "-o", f"preallocation={'falloc' if full else 'off'}", *encrypted_by(key)]
    if base:
        # Not opened (-u): it was examined before, and its size is known.
        command += ["-u", "-b", str(base.path), "-F", base.format]
    with whole(path) as temporary:
        failed = f"cannot create the disk {path}"
        run_with({"new": key}, [*command, str(temporary), str(wanted)], failed, write=[path.parent])


def copy(
    base: Image, path: Path, *, size: int | None, full: bool, progress: Callable[[float], None],
    key: bytes | None = None,
) -> None:  # fmt: skip
    """Create an independent qcow2 disk with the contents of `base`, whatever the image's format; with a `key` it is
    encrypted by that passphrase. `progress` is called with the finished part, up to 1. Raises HostError; then nothing
    is left."""
    refuse_smaller(base, size)
    wanted = size or base.size
    holds = wanted
    if full:
        need_space(path.parent, wanted, f"a full copy of {show_size(wanted)}", 'set allocation = "thin"')
    else:
        holds = _to_be_written(base)
        need_space(path.parent, holds, f"a copy of {base.path.name} ({show_size(holds)} of contents)", "")
    with whole(path) as temporary:
        convert(
            base, temporary, ["-O", "qcow2", *encrypted_by(key)], {"new": key},
            largest=(wanted if full else holds) + OVERHEAD, progress=progress,
        )  # fmt: skip
        if full or wanted > base.size:
            grow = ["resize", "-q", *(["--preallocation=falloc"] if full else []), *alone(temporary, key), str(wanted)]
            run_with({"key": key}, grow, f"cannot create the disk {path}", write=[temporary])


def convert(
    base: Image, target: Path, form: list[str], keys: Mapping[str, bytes | None], *, largest: int,
    progress: Callable[[float], None],
) -> None:  # fmt: skip
    """Write the contents of an image to a file in another form (options of QEMU's tool), of at most `largest` bytes.
    Raises HostError."""
    source = base.as_source()
    command = ["-p", *source[:-1], *form, source[-1], str(target)]
    with given(present({"key": base.key, **keys}), helper()) as (secrets, pipes):
        child = confine.spawn(
            [tool(), "convert", *secrets, *command], helper(), read=base.files, write=[target.parent], largest=largest,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, pass_fds=pipes, with_parent=True,
        )  # fmt: skip
        assert child.stdout and child.stderr
        # Its output is " (12.34/100%)" and a carriage return.
        word = ""
        while piece := child.stdout.read(1):
            word = "" if piece in "\r\n" else word + piece
            if word.endswith("/100%)"):
                progress(float(word.strip(" (").removesuffix("/100%)")) / 100)
        words = child.stderr.read()
        if child.wait():
            raise HostError(f"cannot copy {base.path}", why=words_of(words))


def raw_copy(base: Image, target: Path, progress: Callable[[float], None]) -> None:
    """Write the contents of an image to a raw file; what is zero takes no space. Raises HostError."""
    holds = _to_be_written(base)
    need_space(target.parent, holds, f"a copy of {base.path.name} ({show_size(holds)} of contents)", "")
    convert(base, target, ["-O", "raw"], {}, largest=base.size + OVERHEAD, progress=progress)


def compress(base: Image, target: Path, progress: Callable[[float], None]) -> None:
    """Write the contents of an image to a compressed qcow2 image. Raises HostError."""
    holds = _to_be_written(base)
    need_space(target.parent, holds, f"an image with {show_size(holds)} of contents", "")
    form = ["-c", "-O", "qcow2", "-o", "compression_type=zstd"]
    convert(base, target, form, {}, largest=holds + OVERHEAD, progress=progress)


def stream_optimized(base: Image, target: Path, progress: Callable[[float], None]) -> None:
    """Write the contents of an image to a compressed VMDK image that is read from its beginning to its end, as OVF
    packages have them. Raises HostError."""
    holds = _to_be_written(base)
    need_space(target.parent, holds, f"a package with {show_size(holds)} of contents", "")
    form = ["-O", "vmdk", "-o", "subformat=streamOptimized"]
    convert(base, target, form, {}, largest=holds + OVERHEAD, progress=progress)


def _to_be_written(base: Image) -> int:
    """The bytes that a copy of an image needs: not the image's own size, because it may refer to the same data a
    thousand times. Raises HostError."""
    command = ["measure", "--output=json", "-O", "qcow2", *base.as_source()]
    code, out, err = ran({"key": base.key}, command, read=base.files, seconds=MEASURE_S)
    if code:
        why = words_of(err) if code > 0 else f"its size could not be measured within {MEASURE_S} s of CPU time"
        raise HostError(f"cannot copy {base.path}", why=why)
    return int(json.loads(out)["required"])


def refuse_smaller(base: Image | None, size: int | None) -> None:
    """Raise HostError for a disk of `size` bytes that is smaller than its image."""
    if base and size and size < base.size:
        raise HostError(
            f"a disk of {exact_size(size)} is smaller than its image ({exact_size(base.size)})",
            remedy=f'set size = "{exact_size(base.size)}" or more',
        )


def need_space(folder: Path, wanted: int, what: str, instead: str) -> None:
    """Raise HostError if `wanted` bytes are not free, besides a reserve for running guests. `instead` is another way
    out, if there is one."""
    usage = os.statvfs(folder)
    free = usage.f_bavail * usage.f_frsize
    reserve = min(RESERVE_MOST, usage.f_blocks * usage.f_frsize // RESERVE_PART)
    if wanted > free - reserve:
        remedy = "free some space" + (f", or {instead}" if instead else ", or use a storage with enough space")
        why = f"{show_size(free)} is free, and {show_size(reserve)} of that is reserved for running guests"
        raise HostError(f"no space for {what} in {folder}", why=why, remedy=remedy)
