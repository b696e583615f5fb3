"""Copies of a guest's disks that no guest has open, by QEMU's own tool."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from dacha.hypervisor.images import chain, making
from dacha.hypervisor.images.image_tool import encrypted_by, run_with
from dacha.hypervisor.images.whole import whole as complete


def copy_off(disk: Path, target: Path, *, whole: bool, progress: Callable[[float], None]) -> None:
    """Copy a disk that no guest has open: its own contents on the same backing image, or the `whole` disk. A copy of
    an encrypted disk has the same passphrase. Raises HostError; then nothing is left."""
    files, secret = chain.layers(disk), chain.key(disk)
    image = chain.as_image(disk, secret)
    if whole or len(files) == 1:
        making.copy(image, target, size=None, full=False, progress=progress, key=secret)
        return
    below, form = files[1]
    *how, source = image._replace(path=disk.resolve()).as_source()
    command = ["convert", *how, "-O", "qcow2", "-B", str(below), "-F", form, *encrypted_by(secret), source]
    with complete(target) as temporary:
        read = [file.resolve() for file, _ in files]
        run_with(
            {"key": secret, "new": secret}, [*command, str(temporary)], f"cannot copy {disk}", read=read,
            write=[target.parent],
        )  # fmt: skip
