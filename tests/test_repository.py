"""The house rules that a machine can see: walls between layers, one place for the version, docs that match."""

import ast
import re
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from dacha.core.trace.hop import HOPS

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "dacha"
# Each layer may import those below it (a smaller number), and itself.
LAYERS = {
    "core": 0,
    "wire": 1,
    "formats": 1,
    "host": 2,
    "hypervisor": 3,
    "engine": 4,
    "caretaker": 5,
    "demo": 5,
    "cli": 6,
}
PURE = {"core", "wire", "formats"}
IO = {
    "asyncio", "fcntl", "io", "os", "pathlib", "random", "secrets", "select", "shutil", "signal", "socket",
    "subprocess", "tempfile", "threading", "time", "urllib",
}  # fmt: skip


def imports(path: Path) -> list[tuple[int, str]]:
    found = []
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found += [(node.lineno, a.name) for a in node.names]
        elif isinstance(node, ast.ImportFrom):
            found.append((node.lineno, node.module or ""))
    return found


MODULES = sorted(p for p in SOURCE.rglob("*.py") if p.parent != SOURCE)


@pytest.mark.parametrize("path", MODULES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_each_layer_imports_only_those_below_it(path: Path) -> None:
    layer = path.relative_to(SOURCE).parts[0]
    for line, name in imports(path):
        if name.startswith("dacha."):
            other = name.split(".")[1]
            assert LAYERS[other] < LAYERS[layer] or other == layer, f"{path}:{line} imports {name}"
        elif layer in PURE and name.split(".")[0] in IO:
            assert name == "io" and "BytesIO" in path.read_text(), (
                f"{path}:{line}: {layer} does no I/O, yet imports {name}"
            )
        elif layer == "core":
            assert name.split(".")[0] in sys.stdlib_module_names, f"{path}:{line}: core uses a package, {name}"


@pytest.mark.parametrize("path", MODULES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_only_the_command_line_prints_or_exits(path: Path) -> None:
    if path.relative_to(SOURCE).parts[0] == "cli":
        return
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Call):
            called = ast.unparse(node.func)
            assert called not in ("print", "sys.exit", "exit", "input"), f"{path}:{node.lineno}"


def test_the_version_stands_in_one_place() -> None:
    import dacha

    project = tomllib.loads((ROOT / "pyproject.toml").read_text())
    assert project["project"]["dynamic"] == ["version"]
    assert f"## {dacha.__version__}" in (ROOT / "CHANGELOG.md").read_text()


def test_the_readme_names_every_command_and_only_files_that_exist() -> None:
    from dacha.cli.commands import COMMANDS

    text = (ROOT / "README.md").read_text()
    for _, command, _, _ in COMMANDS:
        assert re.search(rf"`{command}`|dacha {command}|{command},", text), command
    for target in re.findall(r"\]\(([^)#]+)\)", text):
        assert (ROOT / target).exists(), target
    shown = set(re.findall(r"docs/screenshots/(\w+)\.png", text))
    assert shown == {p.stem for p in (ROOT / "docs/screenshots").glob("*.png")}


def test_the_page_on_trace_names_every_hop() -> None:
    rows = re.findall(r"^\| `([a-z-]+)` \|", (ROOT / "docs/trace.md").read_text(), re.M)
    assert rows == list(HOPS)


def test_the_key_reference_names_every_key_that_is_read() -> None:
    text = (ROOT / "docs/lab-file.md").read_text()
    source = (SOURCE / "core" / "lab" / "read.py").read_text()
    for key in set(re.findall(r'\.(?:take|need|list_of|table|list_of_tables|tables)\(\s*"([a-z0-9-]+)"', source)):
        assert re.search(rf"\b{key}\b", text), key


def test_the_readmes_lab_file_is_right(tmp_path: Path) -> None:
    from dacha.core.findings import errors
    from dacha.core.lab.read import read_lab
    from dacha.core.plan.check import check_lab
    from dacha.core.plan.plan import make_plan

    text = re.findall(r"```toml\n(.*?)```", (ROOT / "README.md").read_text(), re.S)[0]
    lab = read_lab(text).lab
    assert lab is not None and read_lab(text).findings == []
    assert errors(check_lab(lab, make_plan(lab))) == []


def test_the_demos_init_is_good_shell() -> None:
    checked = subprocess.run(["sh", "-n", SOURCE / "demo" / "init.sh"], capture_output=True, text=True, check=False)
    assert checked.returncode == 0, checked.stderr
