"""docs/guide does what it says: every command on its pages is run, page by page, on a host of its own."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest

from tests.networks.test_recipes import LAB
from tests.networks.world import HostedLab, begin_router, end_router

GUIDE = Path(__file__).parent.parent.parent / "docs/guide"
# The pages in the order of the test, with what their last command shows. (A first guest is test_readme's.)
PAGES = {
    "install": "complete",
    "existing": "10.77.4.31: in network pier",
    "images": "of 64 MiB",
    "files": "",
    "usb": "a USB controller",
    "scripting": "128 MiB → 192 MiB",
    "remote-desktop": "desk rdp",
    "outside": "",
    "kernel-networks": "smb",
    "states": "heron",
    "watching": "The caretaker is running",
    "troubleshooting": "accelerator",
    "moving": "saltmarsh",
    "uninstall": "accelerator",
}
# Their answer may be no: what is looked for is not there on a host without a service manager or a login.
MAY_SAY_NO = ("status", "check", "trace", "media check", "caretaker status")


def commands(page: str) -> list[str]:
    return re.findall(r"^\$ dacha (.*)$", (GUIDE / f"{page}.md").read_text(), re.M)


def test_every_page_of_the_guide_is_tried_and_can_be_found() -> None:
    pages = {path.stem for path in GUIDE.glob("*.md")}
    assert pages == {*PAGES, "first-guest"} and all(commands(page) for page in pages)
    index = (GUIDE.parent / "README.md").read_text()
    assert all(f"guide/{page}.md" in index for page in pages)
    # Every link of the documentation leads somewhere.
    for path in [*GUIDE.glob("*.md"), *GUIDE.parent.glob("*.md"), GUIDE.parent.parent / "README.md"]:
        for to, anchor in re.findall(r"\]\(([\w./-]+\.(?:md|png|toml))(?:#([\w-]+))?\)", path.read_text()):
            target = path.parent / to
            assert target.exists(), (path, to)
            heads = [re.sub(r"[^\w -]", "", h).strip().lower().replace(" ", "-")
                     for h in re.findall(r"^#+ (.+)$", target.read_text(), re.M)] if anchor else []  # fmt: skip
            assert not anchor or anchor in heads, (path, to, anchor)


@pytest.mark.whole
@pytest.mark.guest
def test_every_command_of_the_guide_works_as_it_is_written(hosted: HostedLab) -> None:
    from dacha.demo.installer_image import installer_image

    lab = hosted
    (lab.folder / "installer.iso").symlink_to(installer_image())
    login = '\nlogin = { user = "ops", keys = ["id.pub"] }\nadapter = [{ network = "pier", address = "10.77.4.21" }]'
    lab.write(LAB.replace('\nadapter = [{ network = "pier", address = "10.77.4.21" }]', login))
    lab("door", "add", "gauge", "ssh", "--from", "host")
    lab("apply")
    lab("stop", "desk", "--force", "--wait", "0s")
    for name in ("tides", "charts", "archives"):
        (lab.folder / name).mkdir()
    router = begin_router(lab.world)
    try:
        for page, shows in PAGES.items():
            said = None
            for command in commands(page):
                code = None if command.startswith(MAY_SAY_NO) else 0
                said = lab(*shlex.split(command), code=code, timeout=240)
                assert said.code in (0, 1), (page, command, said)
            assert said is not None and shows in said.out, (page, said)
    finally:
        end_router(router)
