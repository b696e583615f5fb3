"""Copies of a guest's disks that no guest has open, by QEMU's own tool."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from dacha.host.sparse_copy import cloned
from dacha.hypervisor.images import chain, making, snapshots
from dacha.hypervisor.images.image_tool import encrypted_by, run_with
from dacha.hypervisor.images.whole import whole as complete


class _NotShared(Exception):
    """The file system does not share the blocks of two files."""


def copy_off(
    disk: Path, target: Path, *, whole: bool, progress: Callable[[float], None], share: bool = True
) -> None:  # fmt: skip
    """Copy a disk that no guest has open: its own contents on the same backing image, or the `whole` disk; byte for
    byte, sharing blocks where the file system can, unless the image is to be written anew (`share` is false). A copy of
    an encrypted disk has the same passphrase. Raises HostError; then nothing is left."""
    files, image = chain.layers(disk), disk.resolve()
    if share and (len(files) == 1 or not whole) and not snapshots.in_image(image) and _shared(image, target):
        progress(1.0)
        return
    secret = chain.key(disk)
    source_image = chain.as_image(disk, secret)
    if whole or len(files) == 1:
        making.copy(source_image, target, size=None, full=False, progress=progress, key=secret)
        return
    below, form = files[1]
    *how, source = source_image._replace(path=image).as_source()
    command = ["convert", *how, "-O", "qcow2", "-B", str(below), "-F", form, *encrypted_by(secret), source]
    with complete(target) as temporary:
        read = [file.resolve() for file, _ in files]
        run_with(
            {"key": secret, "new": secret}, [*command, str(temporary)], f"cannot copy {disk}", read=read,
            write=[target.parent],
        )  # fmt: skip


def _shared(image: Path, target: Path) -> bool:
    """Copy an image by sharing its blocks; False if the file system cannot do that."""
    try:
        with complete(target) as temporary:
            if not cloned(image, temporary):
                raise _NotShared
    except _NotShared:
        return False
    return True
