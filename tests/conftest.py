"""What all tests share: a place of their own for state, and the installed program."""

from __future__ import annotations

import atexit
import functools
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import hypothesis
import pytest

from tests.json_answers import check
from tests.zygote import Zygote

# What labs of one host share is not this machine's own.
if "DACHA_SHARED" not in os.environ:
    os.environ["DACHA_SHARED"] = tempfile.mkdtemp(prefix="dacha-shared-")
    atexit.register(shutil.rmtree, os.environ["DACHA_SHARED"], ignore_errors=True)
PROGRAM = str(Path(sys.executable).with_name("dacha"))
# How long a machine that has other work takes over an example says nothing of the program.
# DACHA_EXAMPLES for more of them.
hypothesis.settings.register_profile(
    "patient",
    deadline=None,
    suppress_health_check=[hypothesis.HealthCheck.too_slow],
    max_examples=int(os.environ.get("DACHA_EXAMPLES", "50")),
)
hypothesis.settings.load_profile("patient")


class Run:
    """One finished command: exit code, output, and the output as JSON."""

    def __init__(self, done: subprocess.CompletedProcess[str]) -> None:
        self.code = done.returncode
        self.out = done.stdout
        self.err = done.stderr

    @property
    def json(self) -> Any:
        return json.loads(self.out)

    def __repr__(self) -> str:
        return f"exit {self.code}\n{self.out}\n{self.err}"


def _run(
    arguments: tuple[str, ...], *, cwd: Path, env: dict[str, str], timeout: float,
    prefix: Sequence[str] = (), stdin: Any = subprocess.DEVNULL, **options: Any,
) -> subprocess.CompletedProcess[str]:  # fmt: skip
    """Run the program: forked from one that has loaded it (`tests/zygote.py`), on this host or one in a namespace;
    where more is asked for than that, and with DACHA_TEST_PLAIN=1, from its file."""
    namespace = prefix[3] if len(prefix) == 4 and prefix[:3] == ["ip", "netns", "exec"] else None
    if prefix[:2] == ["nsenter", "-t"] and prefix[3:] == ["-m", "-n", f"--wd={cwd}"]:
        namespace = prefix[2]  # a process that holds them
    plain = options or not isinstance(stdin, int) or (prefix and not namespace) or env["LC_ALL"] != "C.UTF-8"
    if plain or "DACHA_TEST_PLAIN" in os.environ or any(name.startswith("PYTHON") for name in env):
        return subprocess.run(
            [*prefix, PROGRAM, *arguments], cwd=cwd, env=env, capture_output=True, text=True,
            errors="replace",  # a guest's console has what it has
            timeout=timeout, check=False, stdin=stdin, **options,
        )  # fmt: skip
    return zygote()([PROGRAM, *arguments], cwd=cwd, env=env, timeout=timeout, stdin=stdin, namespace=namespace)


@functools.cache
def zygote() -> Zygote:
    """The one that has loaded the program; it ends with the tests."""
    made = Zygote(Path(tempfile.mkdtemp(prefix="dacha-zygote-")) / "socket")
    atexit.register(shutil.rmtree, made.place.parent, ignore_errors=True)
    atexit.register(made.close)
    return made


class Lab:
    """A lab in a temporary folder, driven by the installed program."""

    def __init__(self, folder: Path, run: Path) -> None:
        self.folder = folder
        self.file = folder / "lab.toml"
        self.env = {
            "PATH": os.environ["PATH"],
            "HOME": str(folder / "home"),
            "DACHA_STATE": str(folder / "state"),
            "DACHA_RUN": str(run),
            "DACHA_SHARED": str(run / "shared"),
            "XDG_CACHE_HOME": os.environ.get("XDG_CACHE_HOME", str(Path.home() / ".cache")),
            "LC_ALL": "C.UTF-8",
        }

    def write(self, text: str) -> None:
        self.file.write_text(text)

    def __call__(self, *arguments: str, code: int | None = 0, timeout: float = 300, **options: Any) -> Run:
        """Run `dacha` with these arguments; `code` is the exit code it must have (None: any)."""
        done = Run(_run(arguments, cwd=self.folder, env=self.env | options.pop("env", {}), timeout=timeout, **options))
        assert "Traceback" not in done.err, done
        assert "internal error" not in done.err, done
        if code is not None:
            assert done.code == code, done
        check(arguments, done.out)
        return done

    def guest_folder(self, guest: str) -> Path:
        return next((self.folder / "state" / "labs").glob(f"*/guests/{guest}"))

    def pid(self, guest: str) -> int:
        record = json.loads((self.guest_folder(guest) / "guest.json").read_text())
        return int(record["process"][0])


@pytest.fixture
def lab(tmp_path: Path) -> Iterator[Lab]:
    run = Path(tempfile.mkdtemp(prefix="dacha-test-"))
    (tmp_path / "home").mkdir()
    made = Lab(tmp_path, run)
    yield made
    stop_everything(made)
    shutil.rmtree(run, ignore_errors=True)


def stop_everything(lab: Lab) -> None:
    """Whatever a test left running ends with it; the file may be wrong or gone by now, so from a fresh one."""
    base = lab.folder / "state" / "labs"
    for home in base.iterdir() if base.is_dir() else ():
        rescue = lab.folder / "rescue.toml"
        rescue.write_text(f'[lab]\nname = "{home.name}"\n')
        owner = home / "lab.json"
        owner.unlink(missing_ok=True)
        lab("caretaker", "stop", "--lab", str(rescue), code=None)
        lab("stop", "--all", "--force", "--wait", "0s", "--lab", str(rescue), code=None)


@pytest.fixture(scope="session")
def key_files(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with a key pair: id and id.pub."""
    from dacha.formats.openssh import key_pair

    folder = tmp_path_factory.mktemp("keys")
    private, public = key_pair(b"k" * 32, "test")
    (folder / "id").write_text(private)
    (folder / "id").chmod(0o600)
    (folder / "id.pub").write_text(public)
    return folder


@pytest.fixture(scope="session")
def image() -> Any:
    """The demo guest: a real kernel, made from Debian packages once."""
    from dacha.demo.guest_image import guest_image

    return guest_image()


@pytest.fixture
def guest_lab(lab: Lab, image: Any, key_files: Path) -> Lab:
    """A lab that can boot real guests: `@BOOT@` in its text stands for what every demo guest needs."""
    for name in ("id", "id.pub"):
        shutil.copy(key_files / name, lab.folder / name)
    boot_lines(lab, image)
    return lab


def boot_lines(lab: Lab, image: Any) -> None:
    """Let `@BOOT@` in the lab's text stand for what every demo guest needs."""
    boot = (
        f'memory = "128 MiB"\nvideo = false\n'
        f'boot = {{ kernel = "{image.kernel}", initrd = "{image.initrd}", command-line = "{image.command_line}" }}\n'
        f'login = {{ user = "ops", keys = ["id.pub"] }}'
    )
    plain = lab.write
    lab.write = lambda text: plain(text.replace("@BOOT@", boot))  # type: ignore[method-assign]
