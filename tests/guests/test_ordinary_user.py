"""The whole demo, run by an ordinary user without any privilege."""

import os
import shutil
import subprocess
import sys
import sysconfig
import tempfile
from collections.abc import Iterator
from pathlib import Path

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
    done = subprocess.run(
        [*as_user, python, "-m", "dacha", "demo"],
        cwd=home,
        env=env,
        capture_output=True,
        text=True,
        timeout=400,
        check=False,
    )
    assert done.returncode == 0, done
    for words in (
        "I am gauge 6.",
        "I am charts 6.",
        "200, 49 lines: time,height_m",
        "3 guests, 3 on; everything applied",
        "Gone",
    ):
        assert words in done.stdout, done
    assert not (home / ".local/state/dacha/demo").exists()
    assert list((home / ".local/state/dacha/labs").iterdir()) == []
    left = subprocess.run(["find", home, "-name", "*.qcow2"], capture_output=True, text=True, check=True)
    assert left.stdout == ""
