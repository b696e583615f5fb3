"""The program speaks the trade's language: phrases that are not written, short sentences, remedies that begin with a
command or a verb."""

import ast
import functools
import io
import re
import tokenize
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.test_repository import MODULES, ROOT, SOURCE

# What is not written, and what is.
PHRASES = {
    r"cannot be had": "is not available",
    r"(?<!there )\b(?:is|are) no (?:folder|file|guest|address|name|number|port|list|path|image|medium)\b": "is not a …",
    r"\bis there already\b": "already exists",
    r"\bputs? out\b|\bput out again\b": "disconnect, revoke",
    r"\blets? (?:\w+ )?in\b|\bled in\b|\bleads? (?:it|them) in\b": "allow, admit; forward",
    r"\bgiv(?:es?|ing|en) back\b|\bgave back\b": "return, release, restore",
    r"\bgo(?:es)? on\b|\bgoing on\b|\bwent on\b": "continue",
    r"\btak(?:es?|en) up\b": "take effect",
    r"\bstands? still\b": "suspended, stopped, hung",
    r"\bcut short\b": "truncated, interrupted",
    r"\bknocks?\b": "connects; is exposed to",
    r"\b(?:is|are) said\b|\bthat is told\b|\bwith a word\b": "Dacha reports, prints",
    r"\brid of\b": "remove",
    r"\bmends?\b|\bmended\b": "repair, remedy",
    r"\bon the wire\b": "on the network, traffic",
    r"\ba defect of its own\b": "internal error",
    r"\bwithout any power\b|\bhas no power\b": "unprivileged",
    r"\bwants a (?:password|passphrase|key|login|card)\b": "requires",
}
# Where one of them is the right word: file, phrase in the text.
JUSTIFIED = {
    ("core/trace/seen/results.py", "put out"),  # a value, read by nobody
}
# Remedies begin with one of these, with a command, or with a value that does.
VERBS = """
add allow answer apply ask boot call change check choose clear close configure connect convert copy create delete
detach disable download edit eject enable end enter export fetch find first fix free give grow have identify
increase insert install keep leave limit list load look make merge mount move name open ping power press put read
reboot rebuild reduce release remove rename renew replace repeat report rerun restart restore restrict resume retry
review run save see select send set shorten specify start stop store switch take try turn type unmount update
upgrade use verify wait write
"""
COMMANDS = "dacha apt ip nft sudo chmod chown mkdir mount rm ln qemu-img ssh-keygen systemctl sysctl"
# Words before a command or an imperative.
BEFORE = r"(?:to [^:]+: |as root: |on \w+: |in [^:]+: |for [^:]+: |if [^:,]+[:,] |please |either |then |also )"


@functools.cache
def tree_of(path: Path) -> ast.Module:
    return ast.parse(path.read_text())


@functools.cache
def told(path: Path) -> list[tuple[int, str]]:
    """The texts of a module: strings of two words or more with {…} for values, docstrings, comments."""
    tree = tree_of(path)
    inner = {id(v) for n in ast.walk(tree) if isinstance(n, ast.JoinedStr) for v in ast.walk(n) if v is not n}
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr | ast.Constant) and id(node) not in inner:
            text = shown(node)
            if " " in text and len(re.findall(r"[A-Za-z]{2,}", text)) > 1:
                found.append((node.lineno, text))
    for token in tokenize.generate_tokens(io.StringIO(path.read_text()).readline):
        if token.type == tokenize.COMMENT:
            found.append((token.start[0], token.string))
    return found


def shown(node: ast.expr) -> str:
    """A string of the source, with {…} in the place of each value."""
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.JoinedStr):
        return "".join(str(v.value) if isinstance(v, ast.Constant) else "{…}" for v in node.values)
    if isinstance(node, ast.BinOp):
        return shown(node.left) + shown(node.right)
    return "{…}"


def is_prose(text: str) -> bool:
    """Whether a text is a sentence, not a script, a configuration, a pattern, or a list of names."""
    return bool(re.search(r"[.,:]", text)) and not re.search(
        r"[\\;${}\[]|^#!|<\w|\n {4}|=\S|%\(", text.replace("{…}", "")
    )


def test_the_program_uses_the_trades_words() -> None:
    wrong = []
    for path in MODULES:
        for line, text in told(path):
            for phrase, better in PHRASES.items():
                found = re.search(phrase, text, re.I)
                if found and (str(path.relative_to(SOURCE)), found[0].lower()) not in JUSTIFIED:
                    wrong.append(f"{path}:{line}: {found[0]!r} in {text[:100]!r}: {better}")
    assert not wrong, "\n".join(wrong)


def test_a_sentence_has_thirty_words_at_most() -> None:
    sentences = [
        (f"{path}:{line}", sentence)
        for path in MODULES
        for line, text in told(path)
        if is_prose(text)
        for sentence in re.split(r"[.:;?!]\s|\n\n|\n- ", text)
    ]
    assert not [(at, s) for at, s in sentences if len(re.findall(r"[\w'’-]+", s)) > 30]


def test_no_text_has_lost_the_values_that_it_names() -> None:
    """A string whose f was forgotten shows {guest.name} to its reader."""
    for path in MODULES:
        tree = tree_of(path)
        inner = {id(v) for n in ast.walk(tree) if isinstance(n, ast.JoinedStr) for v in n.values}
        calls = [n.func for n in ast.walk(tree) if isinstance(n, ast.Call)]
        formatted = {id(f.value) for f in calls if isinstance(f, ast.Attribute)}
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in inner | formatted:
                lost = re.search(r"\{[a-z_]+(?:\.[a-z_]+)+\}", node.value)
                assert not lost or lost[0] == "{task.description}", f"{path}:{node.lineno}: {node.value}"


def remedies(tree: ast.Module) -> Iterator[tuple[int, str]]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Call):
            for keyword in node.keywords:
                if keyword.arg == "remedy":
                    value = keyword.value
                    for one in (value.body, value.orelse) if isinstance(value, ast.IfExp) else (value,):
                        yield node.lineno, shown(one)


def test_a_remedy_begins_with_a_command_or_a_verb() -> None:
    wrong, begins = [], {*VERBS.split(), *COMMANDS.split(), "{…}"}
    for path in MODULES:
        for line, text in remedies(tree_of(path)):
            first = re.match(rf"(?:{BEFORE})*([\w-]+|\{{…\}})?", text)
            if first and (first[1] or "{…}") not in begins:
                wrong.append(f"{path}:{line}: {text}")
    assert not wrong, "\n".join(wrong)


@pytest.mark.parametrize("page", sorted([*ROOT.glob("*.md"), *ROOT.glob("docs/**/*.md")]), ids=lambda p: p.name)
def test_the_pages_use_the_trades_words(page: Path) -> None:
    if page.name == "CHANGELOG.md":
        return
    text = re.sub(r"```.*?```", "", page.read_text(), flags=re.S)
    for phrase, better in PHRASES.items():
        found = re.search(phrase, text, re.I)
        assert not found, f"{page}: {found[0]!r}: {better}"


# Output of other programs, which has no other form than its words.
FOREIGN = {
    "core/trace/seen/client.py": "messages of OpenSSH's client",
    "core/trace/there.py": "messages of OpenSSH's client",
    "engine/power/refused_disk.py": "messages of QEMU",
    "formats/openssh.py": "the form of a key file",
    "hypervisor/images/image_tool.py": "messages of qemu-img",
    "host/network/iproute.py": "messages of ip",
    "host/network/nft.py": "messages of nft",
    "host/network/traffic_control.py": "messages of tc",
    "host/signature.py": "messages of gpgv",
}
TESTS = ("startswith", "endswith", "removeprefix", "removesuffix", "find", "index")


def test_no_code_reads_a_sentence_of_ours() -> None:
    """Meaning travels as values. Our own sentences are made where they are shown, and nothing compares them."""
    wrong = []
    for path in MODULES:
        if str(path.relative_to(SOURCE)) in FOREIGN:
            continue
        for node in ast.walk(tree_of(path)):
            parts: list[ast.expr] = []
            if isinstance(node, ast.Compare):
                parts = [node.left, *node.comparators]
            elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in TESTS:
                parts = node.args[:1]
            for part in parts:
                for one in part.elts if isinstance(part, ast.Tuple | ast.Set | ast.List) else [part]:
                    text = one.value if isinstance(one, ast.Constant) and isinstance(one.value, str) else ""
                    if re.search(r"[a-z]{2,} [a-z]{2,}", text):
                        wrong.append(f"{path}:{node.lineno}: {text!r}")
    assert not wrong, "\n".join(wrong)
