"""dacha demo: the main features on a lab of made-up machines, with the same commands that a user types."""

from __future__ import annotations

import argparse
import json
import os
import shlex
import shutil
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo, HostError

GUESTS = ("gauge", "charts")


def demo_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Build a tiny guest from Debian packages, create the saltmarsh lab, and show the main commands on it.\n"
        "It needs no privileges, and removes everything at the end, unless you use --keep."
    )
    parser.add_argument("--keep", action="store_true", help="leave the lab running, and print what to try next")
    parser.add_argument("--folder", metavar="DIR", help="folder for the lab (default: in the state folder)")
    parser.add_argument("--remove", action="store_true", help="stop and remove a demo that was kept")


class _Stage:
    """Runs and shows commands."""

    def __init__(self, lab: Path, keep: bool, removal: str) -> None:
        """`removal` is the command that removes the demo."""
        self.lab, self.keep, self.removal = lab, keep, removal

    def title(self, text: str) -> None:
        output.say()
        output.say(output.paint(text, output.STRONG))

    def _dacha(self, *arguments: str, **options: Any) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-P", "-m", "dacha", *arguments]
        environment = os.environ | {"DACHA_LAB": str(self.lab)}
        return subprocess.run(command, env=environment, text=True, check=False, **options)

    def output(self, *arguments: str) -> str:
        """The JSON output of a command, which is not shown."""
        return self._dacha(*arguments, capture_output=True).stdout

    def run(self, *arguments: str, may_fail: bool = False) -> None:
        """Show and run one dacha command. Raises AnswerNo if it fails."""
        output.say(f"$ dacha {shlex.join(arguments)}")
        sys.stdout.flush()
        code = self._dacha(*arguments).returncode
        if code and not may_fail:
            raise AnswerNo(
                f"dacha {arguments[0]} ended with code {code}, so the demo ends here",
                remedy=f"to examine it: dacha --lab {self.lab} status\nto remove it: {self.removal}"
                if self.keep
                else "see its output above; to keep the lab after an error: dacha demo --keep",
            )


def _lab_folder(args: argparse.Namespace) -> Path:
    from dacha.host import folders

    return folders.expand(args.folder).absolute() if args.folder else folders.state() / "demo"


def run_demo(args: argparse.Namespace) -> int:
    from dacha.cli.terminal.progress import bar
    from dacha.demo.guest_image import guest_image
    from dacha.demo.lab import write_lab
    from dacha.engine.check.host import program_findings

    folder = _lab_folder(args)
    if args.remove:
        return _remove(folder)
    missing = program_findings()
    if missing:
        raise HostError(missing[0].what, remedy=missing[0].remedy)
    began = time.monotonic()
    with bar("building the demo guest", 12) as progress:
        image = guest_image(progress)
    output.say(f"A tiny guest, built from Debian packages: {image.kernel.parent}")
    lab = write_lab(folder, image)
    output.say(f"The saltmarsh lab, a tide laboratory on a pier: {lab}")
    removal = "dacha demo --remove" + (f" --folder {shlex.quote(str(folder))}" if args.folder else "")
    stage = _Stage(lab, args.keep, removal)
    try:
        _play(stage)
    except BaseException:
        # Also when interrupted, or when the output pipe was closed: nothing of the demo is left behind.
        if not args.keep:
            _take_down(folder)
        raise
    if args.keep:
        stage.title("The lab keeps running. To try next")
        output.say(
            f"  export DACHA_LAB={lab}\n  dacha connect gauge\n  dacha console charts\n  dacha door add gauge http\n"
            f"  dacha diff\n  dacha stop locker\n  {removal}        to remove it"
        )
        return 0
    stage.title("Removing everything")
    stage.run("stop", "--all")
    _take_down(folder)
    output.say(
        f"Removed without a trace. The demo took {time.monotonic() - began:.0f} s; dacha demo --keep leaves it running."
    )
    return 0


def _play(stage: _Stage) -> None:
    from dacha.core.plan.doors import here
    from dacha.engine.workspace import load

    stage.title("The changes, and their execution: disks, keys, first-boot data, three guests, their doors")
    stage.run("check")
    stage.run("apply")
    stage.title("A command in two guests, by SSH; their host keys are already known, any other would be refused")
    for guest in GUESTS:
        stage.run(
            "connect",
            guest,
            "--",
            "echo I am $(uname -nr); ip -4 -o addr show eth0",
        )
    stage.title("One more door, opened while the guest runs, and a page downloaded through it")
    stage.run("door", "add", "charts", "web", "--service", "http")
    stage.run("apply")
    _fetch(here(load(str(stage.lab)).plan_without_host.doors["charts", "web"]))
    _from_outside(stage)
    stage.title("The state of the lab")
    stage.run("status")


def _from_outside(stage: _Stage) -> None:
    """A door that a simulated home router forwards; skipped, with a note, if that cannot run."""
    inside, outside, told = "127.77.0.1", "127.77.0.2", "203.0.113.77"
    stage.title(f"Access from outside: a simulated home router with the outside address {told} forwards a door")
    command = [sys.executable, "-P", "-m", "dacha.demo.router"]
    router = subprocess.Popen(
        [*command, "--inside", inside, "--outside", outside, "--told", told],
        stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip
    try:
        assert router.stdout
        if b"is running" not in router.stdout.readline():
            output.say(f"Skipped: another program uses port 5351 of {inside}.")
            return
        # On loopback, like the router: not reachable for others.
        stage.run("door", "add", "charts", "tides", "--service", "http", "--from", "outside", "--listen", "127.0.0.1")
        stage.run("apply")
        place = json.loads(stage.output("trace", "charts", "tides", "--json"))["outside"]
        typed = f"http://{place['address']}:{place['port']}/tides.csv"
        output.say(f"From outside the router, as a user who types {typed}:")
        _fetch((outside, place["port"]))
        stage.run("trace", "charts", "tides")
        stage.run("door", "remove", "charts", "tides")
        stage.run("apply")
    finally:
        router.terminate()
        router.wait(10)


def _fetch(place: tuple[str, int] | None) -> None:
    import http.client

    assert place is not None
    output.say(f"GET http://{place[0]}:{place[1]}/tides.csv")
    connection = http.client.HTTPConnection(*place, timeout=20)
    try:
        connection.request("GET", "/tides.csv")
        answer = connection.getresponse()
        lines = answer.read().decode().splitlines()
    except OSError as e:
        raise AnswerNo("the page could not be downloaded through the door", why=str(e), remedy="dacha status") from e
    finally:
        connection.close()
    if answer.status != 200 or not lines:
        raise AnswerNo(f"the page was answered with status {answer.status}")
    output.say(f"  {answer.status}, {len(lines)} lines: {'   '.join(lines[:4])} …")


def _remove(folder: Path) -> int:
    if not (folder / "lab.toml").is_file():
        raise AnswerNo("no demo exists", where=str(folder))
    _take_down(folder)
    output.say("The demo was removed.")
    return 0


def _take_down(folder: Path) -> None:
    """Power the demo's guests off and remove its files: lab file, keys and disks, and nothing else."""
    from dacha.engine.caretaker import process as caretaking
    from dacha.engine.power.power import stop
    from dacha.engine.workspace import load

    ws = load(str(folder / "lab.toml"))
    with ws.home.lock("demo", ws.path):
        caretaking.stop(ws.home)
        stop(ws.home, [*ws.lab.guests], wait_s=10.0, force=True)
        for name in ws.lab.guests:
            shutil.rmtree(ws.home.guest(name), ignore_errors=True)
            shutil.rmtree(ws.home.run(name), ignore_errors=True)
    if not ws.home.guests():
        shutil.rmtree(ws.home.folder, ignore_errors=True)
        shutil.rmtree(ws.home.run_folder, ignore_errors=True)
    for name in ("lab.toml", "demo_key", "demo_key.pub"):
        (folder / name).unlink(missing_ok=True)
    if not any(folder.iterdir()):
        folder.rmdir()
