"""Quick commands stay quick: what they import is asserted, not how long it takes."""

import re
import socket
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from tests.conftest import Lab

# Each of these costs a quick command more than its own work does.
SLOW = {
    "asyncio", "rich", "bcrypt", "dns", "httpx", "segno", "websockets", "cryptography", "psutil",
    "pycdlib", "yaml", "spnego", "argcomplete", "logging", "importlib.metadata", "concurrent.futures", "dataclasses",
    "http.client", "ssl", "socket",
    "unittest", "difflib", "typing_extensions", "platform", "ctypes", "secrets", "_hashlib", "zstandard",
}  # fmt: skip

TEXT = """\
[lab]
name = "quick"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
disk = [{ size = "1 GiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "host", port = @PORT@ }
"""


def text() -> str:
    """The lab with a port that nobody holds: naming a holder is slow, and allowed to be."""
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return TEXT.replace("@PORT@", str(s.getsockname()[1]))


def modules_of(lab: Lab, *command: str) -> set[str]:
    script = "import sys; from dacha.cli.main import main; main(sys.argv[1:]); print(*sys.modules, file=sys.stderr)"
    done = subprocess.run(
        [sys.executable, "-c", script, *command],
        cwd=lab.folder,
        env=lab.env,
        capture_output=True,
        text=True,
        check=True,
    )
    return set(done.stderr.split())


@pytest.mark.parametrize(
    "command", [("--help",), ("--version",), ("status",), ("check",), ("diff",), ("guest", "list"), ("host",)]
)
def test_a_quick_command_loads_nothing_slow(lab: Lab, command: tuple[str, ...]) -> None:
    lab.write(text())
    needed = (
        {"ctypes", "_hashlib", "socket"} if command == ("host",) else set()
    )  # which looks at all that this host has
    assert modules_of(lab, *command) & SLOW == needed


def test_every_library_that_is_needed_is_among_the_slow() -> None:
    needed = tomllib.loads((Path(__file__).parents[2] / "pyproject.toml").read_text())["project"]["dependencies"]
    imported = {"PyYAML": "yaml", "dnspython": "dns", "pyspnego": "spnego"}
    names = [re.split(r"[<>=]", one)[0] for one in needed]
    quick = {"tomli"}  # it reads the lab file, faster than the one that comes with Python
    assert {imported.get(name, name) for name in names} - SLOW == quick


def test_help_loads_no_part_of_the_lab(lab: Lab) -> None:
    loaded = {m for m in modules_of(lab, "--help") if m.startswith("dacha.")}
    assert loaded == {
        "dacha.cli",
        "dacha.cli.terminal",
        "dacha.cli.terminal.streams",
        "dacha.cli.commands",
        "dacha.cli.main",
        "dacha.core",
        "dacha.core.errors",
        "dacha.core.named",
    }


def test_the_package_itself_imports_nothing() -> None:
    script = "import sys; before = set(sys.modules); import dacha; print(*(set(sys.modules) - before))"
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["dacha"]


def test_completion_knows_the_labs_own_names(lab: Lab) -> None:
    lab.write(text())

    def complete(line: str) -> list[str]:
        from tests.conftest import PROGRAM

        env = lab.env | {
            "_ARGCOMPLETE": "1",
            "COMP_LINE": line,
            "COMP_POINT": str(len(line)),
            "_ARGCOMPLETE_STDOUT_FILENAME": "out",
        }
        subprocess.run([PROGRAM], cwd=lab.folder, env=env, check=False)
        return (lab.folder / "out").read_text().replace("\x0b", " ").split()

    assert "status" in complete("dacha st") and "start" in complete("dacha st")
    assert complete("dacha connect ga") == ["gauge"]
    assert complete("dacha door remove gauge ") and "ssh" in complete("dacha door remove gauge ")
    assert complete("dacha network show p") == ["pier"]
