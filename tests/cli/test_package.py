"""The wheel as it would be installed: everything that the program reads at run time is in it."""

from __future__ import annotations

import os
import subprocess
import sys
import tarfile
import tomllib
import zipfile
from pathlib import Path

import pytest

# From the unpacked wheel alone: a lab, a guest, and a look at them.
TRIED = """\
import importlib.resources, sys
sys.path.insert(0, sys.argv[1])
import dacha
from dacha.cli import main
assert dacha.__file__.startswith(sys.argv[1]), dacha.__file__
assert importlib.resources.files("dacha").joinpath("schemas.json").is_file()
for words in ("new saltmarsh", "guest add gauge --kernel x --anyway", "status"):
    if code := main.main(words.split()):
        sys.exit(code)
"""
ROOT = Path(__file__).parent.parent.parent


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The source distribution, unpacked; from a copy, so that nothing is left beside the sources."""
    folder = tmp_path_factory.mktemp("source")
    subprocess.run(["git", "-C", ROOT, "checkout-index", "-a", f"--prefix={folder}/copy/"], check=True)
    # The version that pyproject.toml wants, as a build in an environment of its own would have it.
    needed = tomllib.loads((ROOT / "pyproject.toml").read_text())["build-system"]["requires"]
    pip = [sys.executable, "-m", "pip", "install", "-q", "--disable-pip-version-check", "--target", folder / "tools"]
    subprocess.run([*pip, *needed], check=True, timeout=300, capture_output=True)
    script = f"from setuptools.build_meta import build_sdist; build_sdist({str(folder)!r})"
    env = os.environ | {"PYTHONPATH": str(folder / "tools")}
    command = [sys.executable, "-c", script]
    subprocess.run(command, cwd=folder / "copy", env=env, check=True, timeout=300, capture_output=True)
    with tarfile.open(next(folder.glob("*.tar.gz"))) as archive:
        archive.extractall(folder)
    return next(p for p in folder.glob("dacha-*") if p.is_dir())


@pytest.fixture(scope="module")
def wheel(source: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("wheel")
    command = [sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "--disable-pip-version-check", "-w", folder]
    subprocess.run([*command, source], check=True, timeout=300, capture_output=True)
    return next(folder.glob("*.whl"))


@pytest.mark.whole
def test_the_source_distribution_is_whole_and_its_tests_pass(source: Path) -> None:
    kept = subprocess.run(["git", "-C", ROOT, "ls-files"], capture_output=True, text=True, check=True).stdout.split(
        "\n"
    )
    missing = [name for name in kept if name and name != ".gitignore" and not (source / name).exists()]
    assert not missing, missing
    few = ["tests/wire/test_md4.py", "tests/wire/test_tftp.py"]
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *few]
    env = os.environ | {"PYTHONPATH": str(source / "src")}
    done = subprocess.run(command, cwd=source, env=env, capture_output=True, text=True, check=False, timeout=300)
    assert done.returncode == 0, done.stdout[-2000:]


def test_the_wheel_has_all_that_is_read_when_it_runs(wheel: Path, tmp_path: Path) -> None:
    with zipfile.ZipFile(wheel) as archive:
        names = set(archive.namelist())
        archive.extractall(tmp_path / "site")
    package = ROOT / "src/dacha"
    wanted = {
        str(p.relative_to(package.parent)) for p in package.rglob("*") if p.is_file() and "__pycache__" not in p.parts
    }
    assert wanted <= names, wanted - names
    assert not [n for n in names if n.startswith("tests")]
    env = {"HOME": str(tmp_path), "PATH": "/usr/bin:/bin", "DACHA_STATE": f"{tmp_path}/s", "DACHA_RUN": f"{tmp_path}/r",
           "DACHA_SHARED": f"{tmp_path}/sh"}  # fmt: skip
    done = subprocess.run([sys.executable, "-P", "-c", TRIED, tmp_path / "site"], cwd=tmp_path, env=env, text=True,
                          capture_output=True, check=False, timeout=120)  # fmt: skip
    assert done.returncode == 0 and "saltmarsh: 1 guest" in done.stdout, done


def test_what_it_says_of_itself_is_whole() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    assert {"Operating System :: POSIX :: Linux", "Programming Language :: Python :: 3.11"} <= set(
        project["classifiers"]
    )
    assert project["keywords"] and project["readme"] == "README.md" and (ROOT / "LICENSE").is_file()
