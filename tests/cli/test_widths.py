"""Tables at every width of a terminal: nothing is cut, and what has to be copied stays whole."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import struct
import subprocess
import termios

import pytest

from dacha.cli.terminal.table import block, row_lines, widths, wrapped
from tests.conftest import PROGRAM, Lab

LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[network.breakwater]
kind = "nat"
subnet = "10.77.5.0/24"
[guest.gauge-north]
memory = "512 MiB"
disk = [{ size = "2 GiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }, { network = "breakwater", address = "10.77.5.20" }]
door.ssh = { from = "lan", port = 2220 }
door.readings = { service = "http", from = "host", port = 8020 }
[guest.charts]
memory = "512 MiB"
disk = [{ size = "2 GiB" }]
adapter = [{ network = "breakwater", address = "10.77.5.21" }]
door.ssh = { from = "host", port = 2222 }
"""


def at_width(lab: Lab, width: int, *arguments: str, term: str = "xterm") -> list[str]:
    """The lines of an answer on a terminal that is so wide, without its colours."""
    outer, inner = pty.openpty()
    fcntl.ioctl(inner, termios.TIOCSWINSZ, struct.pack("HHHH", 24, width, 0, 0))
    child = subprocess.Popen(
        [PROGRAM, *arguments], cwd=lab.folder, env=lab.env | {"TERM": term}, stdin=subprocess.DEVNULL, stdout=inner,
        stderr=subprocess.DEVNULL,
    )  # fmt: skip
    os.close(inner)
    said = b""
    while True:
        try:
            more = os.read(outer, 65536)
        except OSError:
            break
        if not more:
            break
        said += more
    assert child.wait(30) in (0, 1)
    os.close(outer)
    text = said.decode()
    assert term != "dumb" or "\x1b" not in text
    return re.sub(r"\x1b\[[0-9;]*m", "", text).replace("\r\n", "\n").splitlines()


TABLES = [
    ("status",), ("reach",), ("guest", "list"), ("network", "list"), ("door", "list"), ("host",), ("address", "list"),
]  # fmt: skip
# What somebody would copy from each.
COPIED = {"status": "127.0.0.1:2222", "reach": "127.0.0.1:2222", "door": "127.0.0.1", "guest": "gauge-north"}


@pytest.mark.parametrize("command", TABLES, ids=" ".join)
def test_every_table_is_readable_at_every_width(lab: Lab, command: tuple[str, ...]) -> None:
    lab.write(LAB)
    plain = lab(*command, code=None).out
    words = {w for w in plain.split() if len(w) > 1 and not re.fullmatch(r"[\d.]+", w)}  # free memory varies
    for width in (40, 80, 200):
        lines = at_width(lab, width, *command)
        text = "\n".join(lines)
        # Sentences are the terminal's to break, and a word that is longer than it: what is laid out in columns fits.
        laid_out = [line for line in lines if re.search(r"\S  +\S", line)]
        assert all(len(line) <= width or max(map(len, line.split())) > width // 3 for line in laid_out), text
        missing = {w for w in words if w.lower() not in text.lower()}
        assert not missing, (width, missing, text)
        if (copied := COPIED.get(command[0])) is not None:
            assert any(copied in line for line in lines), text
    for term in ("xterm", "dumb"):
        wide = "\n".join(at_width(lab, 300, *command, term=term))
        assert re.sub(r"[\d.]+ GiB", "", wide) == re.sub(r"[\d.]+ GiB", "", plain.rstrip("\n"))


def test_cells_are_wrapped_between_words_and_rows_become_blocks() -> None:
    assert wrapped("no: door from this host only", 10) == ["no: door", "from this", "host only"] and wrapped("", 5) == [
        ""
    ]
    assert wrapped("10.77.104.120/24", 5) == ["10.77.104.120/24"]
    head, rows = ("GUEST", "WHY"), [("gauge", "its door admits others only"), ("sea", "")]
    assert widths(head, rows, None) == widths(head, rows, 40) == [5, 27] and widths(head, rows, 20) == [5, 13]
    assert list(row_lines(rows[0], [5, 13])) == [["gauge", "its door"], ["", "admits others"], ["", "only"]]
    assert widths(("A", "B"), [("10.77.104.120/24", "10.77.104.121/24")], 20) is None
    assert list(block(head, rows[0], 24)) == ["guest gauge", "  why  its door admits", "       others only"]
