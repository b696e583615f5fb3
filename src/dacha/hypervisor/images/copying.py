"""Copies of a guest's disks that no guest has open, by QEMU's own tool."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from dacha.core.errors import HostError
from dacha.host import confine
from dacha.host.accounts import helper
from dacha.hypervisor.images import chain, images
from dacha.hypervisor.images.images import tool
from dacha.hypervisor.images.whole import whole as complete


def copy_off(disk: Path, target: Path, *, whole: bool, progress: Callable[[float], None]) -> None:
    """Copy a disk that no guest has open: its own contents on the same backing image, or the `whole` disk. Raises
    HostError; then nothing is left."""
    files = chain.layers(disk)
    if whole or len(files) == 1:
        images.copy(chain.as_image(disk), target, size=None, full=False, progress=progress)
        return
    below, form = files[1]
    command = [tool(), "convert", "-f", "qcow2", "-O", "qcow2", "-B", str(below), "-F", form, str(disk.resolve())]
    with complete(target) as temporary:
        read = [file.resolve() for file, _ in files]
        code, _, err = confine.run([*command, str(temporary)], helper(), read=read, write=[target.parent])
        if code:
            raise HostError(f"cannot copy {disk}", why=err.strip().removeprefix("qemu-img: "))
