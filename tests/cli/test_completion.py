"""Completion in real shells, at a pseudo-terminal: what is typed, a tab, and what stands there then."""

from __future__ import annotations

import os
import pty
import select
import shutil
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import PROGRAM, Lab

LAB = (
    '[lab]\nname = "pier"\n[network.inside]\nkind = "nat"\n[guest.gauge]\nboot = { kernel = "x" }\n'
    'adapter = [{ network = "inside" }]\ndoor.tides = { service = "http", from = "host" }\n'
)
SHELLS = {
    "bash": (["bash", "--norc", "--noprofile", "-i"], 'eval "$(dacha completion bash)"'),
    "zsh": (["zsh", "-f", "-i"], 'autoload -Uz compinit; compinit -u -D; eval "$(dacha completion zsh)"'),
    "fish": (["fish", "--no-config", "-i"], "dacha completion fish | source"),
}


class Terminal:
    """A shell at a pseudo-terminal."""

    def __init__(self, argv: list[str], cwd: Path, env: dict[str, str]) -> None:
        pid, self.fd = pty.fork()
        if pid == 0:
            os.chdir(cwd)
            os.execvpe(argv[0], argv, env)
        self.pid, self.seen = pid, ""

    def type(self, text: str) -> None:
        os.write(self.fd, text.encode())

    def wait_for(self, words: str, limit_s: float = 60) -> bool:
        """Whether these words come; what was seen before the last call does not count."""
        until = time.monotonic() + limit_s
        while words not in self.seen and time.monotonic() < until:
            if select.select([self.fd], [], [], 0.2)[0]:
                try:
                    self.seen += os.read(self.fd, 65536).decode("utf-8", "replace")
                except OSError:
                    break
        found = words in self.seen
        self.seen = self.seen.partition(words)[2] if found else self.seen
        return found

    def end(self) -> None:
        os.close(self.fd)
        os.kill(self.pid, 9)
        os.waitpid(self.pid, 0)


@pytest.mark.parametrize("shell", sorted(SHELLS))
def test_a_real_shell_completes_the_labs_names(lab: Lab, shell: str, tmp_path: Path) -> None:
    assert shutil.which(shell), f"{shell} is not installed: apt install {shell}"
    lab.write(LAB)
    argv, switch_on = SHELLS[shell]
    env = lab.env | {"PATH": f"{Path(PROGRAM).parent}:{os.environ['PATH']}", "TERM": "xterm", "HOME": str(tmp_path)}
    terminal = Terminal(argv, lab.folder, env)
    try:
        terminal.type(f"{switch_on}; echo swit''ched\n")
        assert terminal.wait_for("switched"), terminal.seen
        # The one name that fits is put in whole: the line shows what was not typed.
        terminal.type("dacha connect ga\t")
        assert terminal.wait_for("uge"), terminal.seen
        terminal.type("\x15")
        terminal.type("dacha door edit gauge ti\t")
        assert terminal.wait_for("des"), terminal.seen
    finally:
        terminal.end()


def test_values_are_completed_and_files_only_where_files_are_meant(lab: Lab) -> None:
    lab.write(LAB)
    (lab.folder / "inside.qcow2").write_bytes(b"x")
    elsewhere = lab.folder / "far"
    elsewhere.mkdir()

    def complete(line: str, cwd: Path = lab.folder) -> list[str]:
        env = lab.env | {"_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line)),
                         "_ARGCOMPLETE_STDOUT_FILENAME": str(lab.folder / "out")}  # fmt: skip
        (lab.folder / "out").write_text("")
        subprocess.run([PROGRAM], cwd=cwd, env=env, check=False)
        return (lab.folder / "out").read_text().replace("\x0b", " ").split()

    assert complete("dacha guest add x --network ") == ["inside"]
    assert complete("dacha guest add x --system deb") == ["debian"]
    assert "inside.qcow2" in complete("dacha guest add x --from ")
    # A name is expected here, and no file's.
    assert complete("dacha guest add ins") == []
    assert complete("dacha status --") != [] and complete("dacha reach --service s") == []
    assert complete("dacha reach --from l") == ["lan"] and complete("dacha reach --from i") == ["inside"]
    # The lab file that is named counts, wherever one stands.
    assert complete("dacha connect ", elsewhere.parent / "far") == ["gauge"]
    other = lab.folder / "far/other.toml"
    other.write_text(LAB.replace("gauge", "charts"))
    assert complete(f"dacha connect --lab {other} ") == ["charts"]
