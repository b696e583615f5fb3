"""The whole demo, run by an ordinary user without any privilege."""

import os
import shutil
import subprocess
import sys
import sysconfig
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

NOBODY = 65534


@pytest.fixture
def place() -> Iterator[Path]:
    """A folder that belongs to an ordinary user, with the installed packages where that user can read them."""
    folder = Path(tempfile.mkdtemp(prefix="dacha-user-"))
    folder.chmod(0o755)
    packages = folder / "packages"
    for name in {sysconfig.get_path("purelib"), sysconfig.get_path("platlib")}:
        shutil.copytree(
            name, packages, dirs_exist_ok=True, ignore=shutil.ignore_patterns("mypy*", "ruff*", "pip*", "*.pyc")
        )
    import dacha

    assert dacha.__file__
    shutil.copytree(Path(dacha.__file__).parent, packages / "dacha", dirs_exist_ok=True)
    home = folder / "home"
    home.mkdir()
    os.chown(home, NOBODY, NOBODY)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


SHARED = """\
[lab]
name = "pier"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
memory = "128 MiB"
boot = {{ kernel = "{kernel}", initrd = "{initrd}", command-line = "{line}" }}
adapter = [{{ network = "pier", address = "10.77.4.20" }}]
login = {{ user = "ops", keys = ["id.pub"] }}
door.ssh = {{ from = "host", port = 2292 }}
share.tides = {{ folder = "tides", at = "/srv/tides" }}
"""


def test_a_folder_is_shared_without_privileges(place: Path, image: Any) -> None:
    """Also by somebody who is in other groups: the daemon insists on leaving them, and may not."""
    home, python = place / "home", Path(sys.executable).resolve()
    env = {"PATH": "/usr/bin:/bin", "HOME": str(home), "PYTHONPATH": str(place / "packages"), "LC_ALL": "C.UTF-8"}
    as_user = ["setpriv", f"--reuid={NOBODY}", f"--regid={NOBODY}", "--groups=65534,27", "--inh-caps=-all"]

    def run(*words: str | Path) -> str:
        done = subprocess.run(
            [*as_user, *words], cwd=home, env=env, capture_output=True, text=True, timeout=400, check=False
        )
        assert done.returncode == 0, done
        return done.stdout

    for file in (image.kernel, image.initrd):
        shutil.copy(file, place / file.name)
        (place / file.name).chmod(0o644)
    kernel, initrd = (place / file.name for file in (image.kernel, image.initrd))
    (home / "lab.toml").write_text(SHARED.format(kernel=kernel, initrd=initrd, line=image.command_line))
    os.chown(home / "lab.toml", NOBODY, NOBODY)
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", "id")
    run("mkdir", "tides")
    run("sh", "-c", "echo low > tides/a")
    try:
        run(python, "-m", "dacha", "apply")
        assert (
            run(python, "-m", "dacha", "connect", "gauge", "--", "cat /srv/tides/a; echo b > /srv/tides/b") == "low\n"
        )
        made = (home / "tides/b").stat()
        assert (made.st_uid, made.st_gid) == (NOBODY, NOBODY)
    finally:
        run(python, "-m", "dacha", "stop", "--all", "--force", "--wait", "0s")


def test_the_demo_runs_without_privileges(place: Path, image: object) -> None:
    home = place / "home"
    # An interpreter that everybody may run: the one that the test environment was made from.
    python = Path(sys.executable).resolve()
    env = {"PATH": "/usr/bin:/bin", "HOME": str(home), "PYTHONPATH": str(place / "packages"), "LC_ALL": "C.UTF-8"}
    as_user = [
        "setpriv",
        f"--reuid={NOBODY}",
        f"--regid={NOBODY}",
        "--clear-groups",
        "--inh-caps=-all",
        "--bounding-set=-all",
    ]
    # Its guest is made of packages, and runs on a host without any network.
    make = [python, "-c", "from dacha.demo.guest_image import guest_image; guest_image()"]
    alone = ["unshare", "-n", "sh", "-c", 'ip link set lo up && exec "$@"', "sh"]
    for command in ([*as_user, *make], [*alone, *as_user, python, "-m", "dacha", "demo"]):
        done = subprocess.run(command, cwd=home, env=env, capture_output=True, text=True, timeout=400, check=False)
        assert done.returncode == 0, done
    for words in (
        "I am gauge 6.",
        "I am charts 6.",
        "200, 49 lines: time,height_m",
        "3 guests, 3 on; everything applied",
        "LAN address  not needed",
        "Removed without a trace",
    ):
        assert words in done.stdout, done
    assert not (home / ".local/state/dacha/demo").exists()
    assert list((home / ".local/state/dacha/labs").iterdir()) == []
    left = subprocess.run(["find", home, "-name", "*.qcow2"], capture_output=True, text=True, check=True)
    assert left.stdout == ""
