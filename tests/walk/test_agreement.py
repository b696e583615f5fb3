"""Random edits by command and by hand, applies, kills and deleted files: check, diff, status and apply never contradict
each other, and nothing is made anew that was there. Fifty steps in `make test`, five hundred in `make whole`."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PROGRAM, Lab
from tests.walk.model import disks_found, keys_found
from tests.walk.world import World

STEPS = 50
COMMANDS = (
    "guest edit gauge --cpus 2", "guest edit gauge --memory 96MiB", "guest edit gauge --cpus 1", "guest remove shed",
    "guest add shed --attach 0 --memory 64MiB", "guest edit web --add-disk 1MiB", "guest edit web --detach-disk 1",
    "guest edit gauge --detach-disk 0", "guest edit gauge --attach-disk 0", "guest edit shed --disk 2MiB",
    "guest add hut --disk 1MiB --memory 64MiB", "guest remove hut", "door add gauge http --port 8091",
    "door remove gauge http", "network edit pier --renumber 10.92.0.0/24", "network edit pier --renumber 10.91.0.0/24",
    "network add lake --kind host-only", "network remove lake", "guest edit gauge --adapter yard",
    "guest edit gauge --remove-adapter yard", "lab rename pier quay", "lab rename quay pier", "start gauge --no-wait",
    "restart gauge --no-wait --force --wait 0s", "stop --all --force --wait 0s", "stop gauge --force --wait 0s",
    "lab move pier --state state2", "lab move pier --state state", "guest rename shed barn", "guest rename barn shed",
    "guest add fen --from none.qcow2 --anyway", "guest remove fen", "guest edit shed --kernel none --anyway",
    "guest edit shed --unset boot",
)  # fmt: skip


class Walker:
    """A lab that is edited at random, and what must be true of it after every step."""

    def __init__(self, lab: Lab, seed: int) -> None:
        self.lab, self.rng = lab, random.Random(seed)
        self.disks, self.keys = disks_found(lab), keys_found(lab)
        # Disks that were deleted by hand: their bytes, by their file.
        self.deleted: dict[Path, bytes] = {}
        self.sound = lab.file.read_text()

    def by_hand(self) -> str:
        """One change that a person or an accident makes."""
        deeds: list[Callable[[], str]] = [
            self._write_nonsense, self._write_missing, self._rename_in_file, self._delete_disk, self._give_back,
            self._kill_apply, self._kill_guest, self._mend_file,
        ]  # fmt: skip
        return self.rng.choice(deeds)()

    def _write_nonsense(self) -> str:
        self._keep_sound()
        self.lab.file.write_text(self.lab.file.read_text() + "\n[guest.gauge.nonsense]\n")
        return "a key that is not known"

    def _write_missing(self) -> str:
        self._keep_sound()
        text = self.lab.file.read_text().replace(
            'memory = "64 MiB"', 'memory = "64 MiB"\nboot = { kernel = "none" }', 1
        )
        self.lab.file.write_text(text)
        return "a kernel that does not exist"

    def _rename_in_file(self) -> str:
        text = self.lab.file.read_text()
        new = ("pier", "quay") if self.rng.random() < 0.5 else ("quay", "pier")
        self.lab.file.write_text(text.replace(f'name = "{new[0]}"', f'name = "{new[1]}"', 1))
        return f"the lab's name by hand: {new}"

    def _keep_sound(self) -> None:
        if self.lab("check", code=None).code == 0:
            self.sound = self.lab.file.read_text()

    def _mend_file(self) -> str:
        self.lab.file.write_text(self.sound)
        return "the last sound file again"

    def _delete_disk(self) -> str:
        there = [p for p in self._links() if p.exists() and not p.is_symlink()]
        on = {g["name"] for g in self._status().get("guests", ()) if g["state"] != "off"}
        there = [p for p in there if p.parent.name not in on]
        if not there:
            return "no disk to delete"
        gone = self.rng.choice(there)
        self.deleted[gone] = gone.read_bytes()
        gone.unlink()
        return f"{gone.parent.name}/{gone.name} deleted"

    def _give_back(self) -> str:
        """Deleted disks are there again, where their guest still has its folder."""
        for path, data in list(self.deleted.items()):
            if path.parent.is_dir() and not path.exists():
                path.write_bytes(data)
            del self.deleted[path]
        return "disks given back"

    def _kill_apply(self) -> str:
        command = subprocess.Popen([PROGRAM, "apply", "--no-wait"], cwd=self.lab.folder, env=self.lab.env,
                                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
        time.sleep(self.rng.uniform(0.05, 0.6))
        command.kill()
        command.wait()
        return "apply killed"

    def _kill_guest(self) -> str:
        found = [g["pid"] for g in self._status().get("guests", ()) if g["pid"]]
        if found:
            os.kill(pid := self.rng.choice(found), signal.SIGKILL)
            deadline = time.monotonic() + 30
            while Path(f"/proc/{pid}/cmdline").exists() and Path(f"/proc/{pid}/cmdline").read_bytes():
                assert time.monotonic() < deadline
                time.sleep(0.05)
        return f"{len(found)} guests on, one killed"

    def _links(self) -> Iterator[Path]:
        for state in ("state", "state2"):
            for home in sorted((self.lab.folder / state / "labs").glob("*")):
                if not home.is_symlink():
                    yield from sorted(home.glob("guests/*/disk-*.qcow2"))

    def _status(self) -> Any:
        done = self.lab("status", "--json", code=None)
        return done.json if done.code in (0, 1) else {}

    def command(self) -> str:
        words = self.rng.choice(COMMANDS)
        done = self.lab(*words.split(), code=None)
        if done.code == 0:
            self._follow(words.split())
        return f"{words}: {done.code} {done.err.strip().splitlines()[:1]}"

    def _follow(self, words: list[str]) -> None:
        """Where deleted disks would be now."""
        if words[:2] == ["guest", "rename"]:
            before, after = f"/guests/{words[2]}/", f"/guests/{words[3]}/"
        elif words[:2] == ["lab", "rename"]:
            before, after = f"/labs/{words[2]}/", f"/labs/{words[3]}/"
        elif words[:2] == ["lab", "move"]:
            before, after = ("/state/", "/state2/") if words[-1] == "state2" else ("/state2/", "/state/")
        else:
            return
        self.deleted = {Path(str(p).replace(before, after)): data for p, data in self.deleted.items()}

    def agree(self) -> None:
        """check, diff and status say the same of what is wrong, and apply does as they said."""
        check = self.lab("check", "--json", code=None)
        wrong = {(f["subject"], f["what"]) for f in check.json["findings"] if f["severity"] == "error"}
        of_file = any(f["about"] == "lab" for f in check.json["findings"] if f["severity"] == "error")
        diff = self.lab("diff", "--json", code=None)
        assert (diff.code == 2) == of_file or diff.code == 3, (check, diff)
        if diff.code > 1:
            said = self.lab("apply", "--no-wait", "--json", code=None)
            assert said.code == diff.code and said.json["error"]["what"] == diff.json["error"]["what"], (diff, said)
            return
        refused = {(f["subject"], f["what"]) for f in diff.json["refused"]}
        status = self.lab("status", "--json", code=None).json
        assert refused == {(f["subject"], f["what"]) for f in status["refused"]}, (diff, status)
        assert refused <= wrong, (refused - wrong, check)
        assert (diff.code == 1) == bool(refused)
        assert [c["what"] for c in diff.json["changes"]] == [c["what"] for c in status["pending"]], (diff, status)
        if any(c["change"] == "stop-guest" for c in diff.json["changes"]):
            # Guests without a system press no power button.
            self.lab("stop", "--all", "--force", "--wait", "0s", code=None)
            return
        done = self.lab("apply", "--no-wait", "--json", code=None)
        assert done.code == (3 if refused else 0), (diff, done)
        after = self.lab("diff", "--json", code=None)
        unfit = {s.removeprefix("guest ") for s, _ in refused}
        if "error" in done.json:
            assert after.json["changes"] == diff.json["changes"] and "failed" not in done.json
            return
        left = [c for c in after.json["changes"] if c["when"] == "now" and c["guest"] not in unfit]
        assert not left, (done, left)

    def nothing_lost(self) -> None:
        """Every marked disk is there once, or was deleted by hand, and no other one is in the place of such a one."""
        gone = {(path.parent.name, path.name) for path in self.deleted}
        found = disks_found(self.lab)
        for mark in self.disks:
            if mark not in found:
                assert any(mark.encode() in data for data in self.deleted.values()), (mark, found, gone)
        for path in self.deleted:
            assert not path.exists(), f"{path} was made anew"
        keys = set(keys_found(self.lab).values())
        assert set(self.keys.values()) <= keys, "a host key is lost"


def walk(lab: Lab, seed: int, steps: int) -> None:
    walker = Walker(lab, seed)
    done = []
    for n in range(steps):
        done.append(walker.by_hand() if walker.rng.random() < 0.4 else walker.command())
        try:
            walker.nothing_lost()
            if n % 2 or walker.rng.random() < 0.3:
                walker.agree()
                walker.nothing_lost()
        except AssertionError as e:
            raise AssertionError(f"seed {seed}, step {n}: {done}\n{e}") from e


def test_fifty_random_steps_never_let_commands_contradict_each_other(world: World) -> None:
    walk(world.lab, 1, STEPS)


@pytest.mark.whole
@pytest.mark.parametrize("seed", range(2, 11))
def test_random_steps_never_let_commands_contradict_each_other(world: World, seed: int) -> None:
    walk(world.lab, seed, STEPS)
