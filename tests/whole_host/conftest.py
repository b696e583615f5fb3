"""A whole host in a guest: Debian with systemd and its own kernel, Dacha installed in it, steered by its agent. The
outer hypervisor is Dacha, too: it presses the power button, and pulls the plug."""

from __future__ import annotations

import base64
import json
import shlex
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from dacha.hypervisor.monitor import agent
from tests.conftest import Lab, stop_everything
from tests.networks.world import until

TOP = Path(__file__).parents[2]
# The image is made once a machine; it takes two minutes.
MADE = Path("/var/tmp/dacha-host")
OUTER = """\
[lab]
name = "outer"
accelerator = "tcg"
[network.pier]
kind = "nat"
[guest.pier]
system = "debian"
cpus = 2
memory = "3 GiB"
cpu = "qemu64"
video = false
first-boot = false
stop-after = "10 min"
disk = [{ from = "made/disk.qcow2" }, { name = "dacha", from = "dacha.img" }]
boot = { kernel = "made/vmlinuz", initrd = "made/initrd.img", command-line = "@LINE@" }
adapter = [{ network = "pier" }]
# Nothing of this machine's: for the controller, into which the tests plug devices that QEMU emulates.
usb = ["1209:0000"]
"""
LINE = "root=LABEL=root rw console=ttyS0 net.ifnames=0 panic=-1"
DACHA = "/opt/dacha/venv/bin/dacha"
# The version before, for its upgrade: a commit.
BEFORE, OLDER = "9a6d883", "/opt/dacha/before/bin/dacha"


class Answer:
    """What a command on the host said, and its exit code."""

    def __init__(self, code: int, out: str, err: str) -> None:
        self.code, self.out, self.err = code, out, err

    @property
    def json(self) -> Any:
        return json.loads(self.out)

    def __repr__(self) -> str:
        return f"exit {self.code}\n{self.out}\n{self.err}"


class Hung(Exception):
    """The emulated host itself does not respond any more: its kernel hangs on a busy machine."""


class WholeHost:
    """The host in the guest; commands run in it as root, by its agent."""

    def __init__(self, lab: Lab) -> None:
        self.lab = lab
        self.run_folder = Path(lab.env["DACHA_RUN"]) / "outer/pier"

    def start(self) -> None:
        """Switch it on, and wait until its service manager has started what it starts."""
        self.lab("start", "pier", "--no-wait")
        self.await_up()

    def await_up(self) -> None:
        until(lambda: agent.ask(self.run_folder, "guest-ping", 5.0) is not None, 600)
        until(lambda: self.sh("systemctl is-system-running", None).out.strip() in ("running", "degraded"), 600)

    def console(self) -> str:
        """The last output on its console."""
        return self.lab("console", "pier", "--record", code=None).out[-2000:]

    def cut(self) -> None:
        """Pull its plug."""
        self.lab("stop", "pier", "--force", "--wait", "0s")

    def sh(self, script: str, code: int | None = 0, timeout_s: float = 300.0) -> Answer:
        """Run a shell script on it; `code` is the exit code it must have (None: any)."""
        wrapped = (
            f"t=$(mktemp -d /run/sh-XXXXXX); ({script}\n) > $t/out 2> $t/err; echo $?; cat $t/out; "
            "echo ---err---; cat $t/err; rm -r $t"
        )
        said = agent.run_script(self.run_folder, wrapped, timeout_s)
        if said is None:
            raise Hung(f"the host's agent did not run: {script}\n{self.console()}")
        first, _, rest = said.partition("\n")
        out, _, err = rest.partition("---err---\n")
        done = Answer(int(first), out, err)
        assert code is None or done.code == code, (script, done)
        assert "Traceback" not in err and "internal error" not in err, done
        return done

    def sh_quietly(self, script: str) -> str | None:
        """The output of a script; None while the host does not run any."""
        return agent.run_script(self.run_folder, script, 10.0)

    def dacha(self, words: str, code: int | None = 0, timeout_s: float = 300.0) -> Answer:
        return self.sh(f"cd /root && {DACHA} {words}", code, timeout_s)

    def write(self, path: str, text: str) -> None:
        data = base64.b64encode(text.encode()).decode()
        self.sh(f"mkdir -p {shlex.quote(str(Path(path).parent))}; echo {data} | base64 -d > {shlex.quote(path)}")

    def guests(self) -> dict[str, str]:
        """The state of each guest in it."""
        return {g["name"]: g["state"] for g in self.dacha("status --json", None).json["guests"]}

    def log(self, *kinds: str) -> list[dict[str, Any]]:
        words = " ".join(f"--kind {k}" for k in kinds)
        return [json.loads(line) for line in self.dacha(f"log --json {words}").out.splitlines()]


@pytest.fixture(scope="session")
def whole_host(tmp_path_factory: pytest.TempPathFactory, image: Any) -> Iterator[WholeHost]:
    folder = tmp_path_factory.mktemp("host")
    (folder / "home").mkdir()
    subprocess.run([TOP / "tools/debian-guest.sh", MADE, "--host"], check=True, timeout=900)
    (folder / "made").symlink_to(MADE)
    inner = folder / "guest"
    inner.mkdir()
    shutil.copy(image.kernel, inner / "vmlinux")
    shutil.copy(image.initrd, inner / "initrd.cpio")
    (inner / "command-line").write_text(image.command_line)
    older = folder / "before"
    older.mkdir()
    said = subprocess.run(["git", "-C", TOP, "archive", BEFORE], capture_output=True, check=True)
    subprocess.run(["tar", "-x", "-C", older], input=said.stdout, check=True)
    subprocess.run([TOP / "tools/dacha-disk.sh", TOP, folder / "dacha.img", inner, older], check=True, timeout=900)
    run = Path(tempfile.mkdtemp(prefix="dacha-test-"))
    lab = Lab(folder, run)
    try:
        lab.write(OUTER.replace("@LINE@", LINE))
        lab("apply", "--no-wait")
        host = WholeHost(lab)
        began = time.monotonic()
        host.await_up()
        print(f"the host is up after {time.monotonic() - began:.0f} s")
        yield host
    finally:
        stop_everything(lab)
        shutil.rmtree(run, ignore_errors=True)
