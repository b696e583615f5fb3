"""The README's opening example, word for word, from nothing to a login."""

import re
import shlex
import subprocess
from pathlib import Path

from dacha.demo.installer_image import installed_disk
from tests.conftest import Lab

README = Path(__file__).parent.parent.parent / "README.md"


def test_the_opening_example_ends_in_a_login(lab: Lab, tmp_path: Path) -> None:
    first = re.search(r"```\n((?:\$ .*\n)+)```", README.read_text())
    assert first
    page = (README.parent / "docs/guide/first-guest.md").read_text()
    assert first[0] in page, "the guide begins with the same"
    commands = [shlex.split(line)[1:] for line in re.findall(r"^\$ (.*)$", first[1], re.M)]
    image = re.search(r"--from (\S+)", first[1])
    assert image and [c[0] for c in commands][-1] == "connect"
    disk = installed_disk(tmp_path, "grub-mkrescue")
    subprocess.run(["qemu-img", "convert", "-O", "qcow2", disk, lab.folder / image[1]], check=True)
    for words in commands[:-1]:
        lab(*words)
    # Somebody at a keyboard types this; nothing is asked before.
    said = lab(*commands[-1], stdin=None, input="hostname; id -un\n").out
    assert "gauge\nops\n" in said
    for line in re.findall(r"^\$ dacha (.*)$", page.replace(first[0], ""), re.M):
        assert "gauge" in lab(*shlex.split(line)).out
    assert (lab.folder / "saltmarsh_key").stat().st_mode & 0o777 == 0o600
