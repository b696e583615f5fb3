"""The house rules that a machine can see: walls between layers, one place for the version, docs that match."""

import argparse
import ast
import functools
import importlib
import re
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from dacha.core.lab.buses import BUSES
from dacha.core.trace.way import WAY

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
            # One of the two sums, by the interpreter's version; tomli reads text, as the standard library's does.
            known = {*sys.stdlib_module_names, "_sha2", "_sha256", "tomli"}
            assert name.split(".")[0] in known, f"{path}:{line}: core uses a package, {name}"


@functools.cache
def graph() -> dict[str, set[str]]:
    """Which module imports which, wherever in it; what only a type checker imports is left out."""
    names = {str(p.relative_to(SOURCE.parent).with_suffix("")).replace("/", "."): p for p in MODULES}
    names = {name.removesuffix(".__init__"): path for name, path in names.items()}
    found: dict[str, set[str]] = {}
    for name, path in names.items():
        tree = ast.parse(path.read_text())
        unseen = {
            id(x) for n in ast.walk(tree) if isinstance(n, ast.If) and "TYPE_CHECKING" in ast.dump(n.test)
            for x in ast.walk(n)
        }  # fmt: skip
        found[name] = set()
        for node in (n for n in ast.walk(tree) if id(n) not in unseen):
            if isinstance(node, ast.ImportFrom) and node.module:
                for alias in node.names:
                    deep = f"{node.module}.{alias.name}"
                    found[name].add(deep if deep in names else node.module)
            elif isinstance(node, ast.Import):
                found[name] |= {alias.name for alias in node.names}
        found[name] = (found[name] & names.keys()) - {name}
    return found


def circle(edges: dict[str, set[str]]) -> list[str]:
    """Some circle, its members in order; empty when there is none."""
    done: set[str] = set()

    def walk(node: str, way: list[str]) -> list[str]:
        if node in way:
            return [*way[way.index(node) :], node]
        if node in done:
            return []
        for below in sorted(edges.get(node, ())):
            if found := walk(below, [*way, node]):
                return found
        done.add(node)
        return []

    return next((found for node in sorted(edges) if (found := walk(node, []))), [])


def test_no_module_imports_itself_by_way_of_others() -> None:
    assert circle(graph()) == []


def test_no_folder_imports_itself_by_way_of_others() -> None:
    edges: dict[str, set[str]] = {}
    for name, others in graph().items():
        folder = name.rpartition(".")[0]
        edges.setdefault(folder, set()).update(o.rpartition(".")[0] for o in others)
        edges[folder].discard(folder)
    assert circle(edges) == []
    assert circle({"a": {"b"}, "b": {"c"}, "c": {"a"}}) == ["a", "b", "c", "a"]


def test_no_folder_is_crowded() -> None:
    counted = {f: [p for p in f.glob("*.py") if p.name != "__init__.py"] for f in {p.parent for p in MODULES}}
    crowded = {str(f.relative_to(SOURCE)): len(names) for f, names in counted.items() if len(names) > 14}
    assert not crowded


@pytest.mark.parametrize("path", MODULES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_the_pure_layers_open_no_file(path: Path) -> None:
    # core/named.py makes the constructors of classes, from their fields' names.
    if path.relative_to(SOURCE).parts[0] in PURE and path.name != "named.py":
        calls = [n for n in ast.walk(ast.parse(path.read_text())) if isinstance(n, ast.Call)]
        assert not [n.lineno for n in calls if isinstance(n.func, ast.Name) and n.func.id in ("open", "exec", "eval")]


@pytest.mark.parametrize("path", MODULES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_only_the_command_line_prints_or_exits(path: Path) -> None:
    if path.relative_to(SOURCE).parts[0] == "cli":
        return
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Call):
            f = node.func
            called = f"{f.value.id}.{f.attr}" if isinstance(f, ast.Attribute) and isinstance(f.value, ast.Name) else ""
            called = f.id if isinstance(f, ast.Name) else called
            assert called not in ("print", "sys.exit", "exit", "input"), f"{path}:{node.lineno}"


def test_the_version_stands_in_one_place() -> None:
    import dacha

    project = tomllib.loads((ROOT / "pyproject.toml").read_text())
    assert project["project"]["dynamic"] == ["version"]
    assert f"## {dacha.__version__}" in (ROOT / "CHANGELOG.md").read_text()


def test_the_page_on_commands_is_what_the_program_says() -> None:
    page = importlib.import_module("tools.commands_page")
    assert (ROOT / "docs/commands.md").read_text() == page.page(), "run make commands"


def test_the_readme_links_every_picture_and_only_files_that_exist() -> None:
    text = (ROOT / "README.md").read_text()
    assert text.count("\n") <= 120 and text.count("![") == 4, "it stays short: the rest is in docs"
    for target in re.findall(r"\]\(([^)#]+)\)", text):
        assert (ROOT / target).exists(), target
    shown = set(re.findall(r"docs/screenshots/(\w+)\.png", text))
    assert shown == {p.stem for p in (ROOT / "docs/screenshots").glob("*.png")}


def test_the_page_on_the_architecture_names_modules_that_exist() -> None:
    text = (ROOT / "docs/architecture.md").read_text()
    for name in re.findall(r"`((?:core|engine|cli|host|hypervisor|caretaker|formats|wire|demo)/[\w/.-]+)`", text):
        assert any((SOURCE / f"{name}{end}").exists() for end in ("", ".py")), name
    for name in re.findall(r"`((?:tests|bench|tools)/[\w/.-]+)`", text):
        assert (ROOT / name).exists(), name


def test_the_page_on_trace_has_every_hop_and_what_is_asked_there() -> None:
    rows = re.findall(r"^\| `([a-z-]+)` \| (.*?) \|", (ROOT / "docs/trace.md").read_text(), re.M)
    assert [(name, asks.replace("`", "")) for name, asks in rows] == [(kind.name, kind.asks) for kind in WAY]


def test_the_page_on_the_lab_file_has_every_bus_and_its_driver() -> None:
    rows = re.findall(r"^\| `(\w+)` \| `(\w+)` \|", (ROOT / "docs/lab-file.md").read_text(), re.M)
    assert [(bus.name, bus.driver) for bus in BUSES.values()] == rows


def test_the_key_reference_names_every_key_that_is_read() -> None:
    text = (ROOT / "docs/lab-file.md").read_text()
    modules = [*(SOURCE / "core/lab/table").glob("*.py"), SOURCE / "core/lab/person.py", SOURCE / "core/lab/network.py"]
    source = "".join(path.read_text() for path in modules)
    for key in set(re.findall(r'\.(?:take|need|list_of|table|list_of_tables|tables)\(\s*"([a-z0-9-]+)"', source)):
        assert re.search(rf"\b{key}\b", text), key


def test_the_readmes_lab_file_is_right(tmp_path: Path) -> None:
    from dacha.core.findings import errors
    from dacha.core.lab.table.read import read_lab
    from dacha.core.plan.check import check_lab
    from dacha.core.plan.plan import make_plan

    text = re.findall(r"```toml\n(.*?)```", (ROOT / "README.md").read_text(), re.S)[0]
    lab = read_lab(text).lab
    assert lab is not None and read_lab(text).findings == []
    assert errors(check_lab(lab, make_plan(lab))) == []


def test_the_demos_init_is_good_shell() -> None:
    checked = subprocess.run(["sh", "-n", SOURCE / "demo" / "init.sh"], capture_output=True, text=True, check=False)
    assert checked.returncode == 0, checked.stderr


def test_every_command_and_action_has_help_an_example_and_the_options_that_all_share() -> None:
    from dacha.cli.commands import COMMANDS
    from dacha.cli.main import parser_for

    for command in COMMANDS:
        parser = parser_for(command.name)
        assert parser.description, command.name
        module = importlib.import_module(f"dacha.cli.{command.module}")
        if command.example:
            rows = [(command.example, command.common, parser.format_help())]
        else:
            assert module.ACTIONS, command.name
            texts = {a.name: _help_of(parser, a.name) for a in module.ACTIONS}
            rows = [(a.example, a.common, texts[a.name]) for a in module.ACTIONS]
            assert all(a.help and a.example.startswith(f"dacha {command.name} {a.name}") for a in module.ACTIONS)
        for example, common, text in rows:
            assert example.startswith(f"dacha {command.name}") and f"example: {example}" in text
            assert all(f"--{option}" in text for option in common.split())


def _help_of(parser: argparse.ArgumentParser, action: str) -> str:
    """The help text of one action."""
    subparsers = next(a for a in parser._actions if isinstance(a, argparse._SubParsersAction))
    return str(subparsers.choices[action].format_help())


@pytest.mark.parametrize("path", MODULES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_a_module_has_300_lines_and_a_function_60_at_most(path: Path) -> None:
    text = path.read_text()
    assert text.count("\n") <= 300
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            assert (node.end_lineno or 0) - node.lineno < 60, f"{node.name}: {node.lineno}"
