"""docs/recipes.md does what it says: every command in it is run, in its order, on a host of its own."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest

from tests.networks.world import HostedLab, begin_router, end_router

PAGE = Path(__file__).parent.parent.parent / "docs/recipes.md"
LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
disk = [{ size = "16 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
[guest.desk]
memory = "64 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.21" }]
"""
# What a recipe's last command shows, so that it is known to have worked.
SHOWS = {
    "Let the LAN in": "ssh -p",
    "Let only one machine in": "192.0.2.20",
    "Why can't I get in?": "fine      the door",
    "Put a guest aside": "continues from its saved state",
    "One command in every guest": "1 of 1 guest: exit code 0",
    "A fixed address": "open",
    "A server on the LAN itself": "192.0.2.40:80",
    "Remote desktop": "started",
    "Somebody else gets in": "removed mara@pier from ops",
    "From outside the home": "fine      router",
    "A guest installed from a medium": "create disk 0, 4 GiB",
    "A second disk": "disk 64 MiB",
    "Start with this host": "ExecStart=",
    "Another name, another subnet, another place": "tide-gauge",
    "Remove everything": "Everything of saltmarsh was removed",
}


@pytest.mark.whole
def test_every_recipe_works_as_it_is_written(hosted: HostedLab) -> None:
    from dacha.demo.installer_image import installer_image
    from dacha.formats.openssh import key_pair

    lab = hosted
    (lab.folder / "installer.iso").symlink_to(installer_image())
    (lab.folder / "mara.pub").write_text(key_pair(b"m" * 32, "mara@pier")[1])
    lab.write(LAB)
    lab("apply", "--no-wait")
    lab("stop", "desk", "--force", "--wait", "0s")
    recipes = re.findall(r"^## (.+?)\n(.*?)(?=^## |\Z)", PAGE.read_text(), re.M | re.S)
    assert [title for title, _ in recipes] == list(SHOWS)
    router = begin_router(lab.world)
    try:
        for title, text in recipes:
            commands = re.findall(r"^\$ dacha (.*)$", text, re.M)
            assert commands, title
            for command in commands:
                said = lab(*shlex.split(command), timeout=240)
            assert SHOWS[title] in said.out, (title, said)
    finally:
        end_router(router)
