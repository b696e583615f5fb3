"""Write the saltmarsh lab into a folder: the lab file and a key pair for its guests."""

from __future__ import annotations

import os
from importlib.resources import files
from pathlib import Path

from dacha.demo.guest_image import GuestImage
from dacha.formats.openssh import key_pair
from dacha.host.files import replace_file
from dacha.host.folders import make_private


def write_lab(folder: Path, image: GuestImage) -> Path:
    """Write the lab into `folder`, which is created; returns the lab file. An existing lab file is not changed."""
    make_private(folder)
    path = folder / "lab.toml"
    if not (folder / "demo_key.pub").exists():
        private, public = key_pair(os.urandom(32), "saltmarsh demo")
        replace_file(folder / "demo_key", private, mode=0o600)
        replace_file(folder / "demo_key.pub", public)
    if not path.exists():
        text = files("dacha.demo").joinpath("saltmarsh.toml").read_text()
        for mark, value in (
            ("@KERNEL@", image.kernel),
            ("@INITRD@", image.initrd),
            ("@COMMAND_LINE@", image.command_line),
        ):
            text = text.replace(mark, str(value))
        replace_file(path, text)
    return path
