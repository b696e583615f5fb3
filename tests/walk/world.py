"""One lab beside files of others, taken through commands, and what must hold after each."""

from __future__ import annotations

import shlex
import shutil
import subprocess
from pathlib import Path

from tests.conftest import Lab, Run
from tests.walk.actions import ACTIONS, KEY, Action
from tests.walk.model import Model, disks_found, keys_found, tree

GUEST = """
# about {name}
[guest.{name}]
memory = "64 MiB"
first-boot = false
disk = [{{ size = "1 MiB"{storage} }}]
adapter = [{{ network = "pier", address = "10.91.0.{n}" }}]
door.ssh = {{ from = "host", port = 22{n} }}
"""
# What is written where commands write, too: a start notes the boot, a look its learned addresses.
NOTES = ("lock", "rules.lock", "process.lock", "console.start")


class World:
    """One lab beside files of others, which is put back as it was before each pair."""

    def __init__(self, lab: Lab) -> None:
        self.lab = lab
        self.kept = lab.folder.parent / "kept"
        self._make()
        self.base = Model(disks_found(lab), keys_found(lab))
        self.others = self._others()
        shutil.copytree(lab.folder, self.kept, symlinks=True)

    def _make(self) -> None:
        lab = self.lab
        text = f"""# the lab
[lab]
name = "pier"
accelerator = "tcg"

[storage.big]
path = "storage"

[network.pier]
kind = "nat"
subnet = "10.91.0.0/24"

[network.yard]
kind = "host-only"

[person.kim]
keys = ["{KEY}"]
enters = ["gauge"]
"""
        guests = ((91, "gauge", ""), (92, "shed", ""), (93, "web", ', storage = "big"'))
        for n, name, storage in guests:
            text += GUEST.format(name=name, n=n, storage=storage)
        lab.file.write_text(text.replace("port = 2291 }", "port = 2290 }"))
        (lab.folder / "base.raw").write_bytes(b"tides".ljust(510, b" ") + b"\x55\xaa".ljust((1 << 20) - 510, b"\0"))
        (lab.folder / "storage/thesis").mkdir(parents=True)
        (lab.folder / "storage/thesis/chapter.txt").write_text("the moon")
        (lab.folder / "storage/web-db-0.qcow2").write_bytes(b"another program's")
        for place, what in (("web-site/index.html", "<html>"), ("web-site/keys/id", "secret"), ("archive.zip", "PK")):
            (lab.folder / place).parent.mkdir(parents=True, exist_ok=True)
            (lab.folder / place).write_text(what)
        lab("media", "add", "base.raw")
        lab("apply", "--no-wait")
        lab("stop", "--all", "--force", "--wait", "0s")
        for _, name, _ in guests:
            disk = lab.guest_folder(name) / "disk-0.qcow2"
            data = disk.parent / "mark"
            data.write_bytes(f"MARK:{name}".ljust(16, "-").encode() + bytes(496))
            write = f"write -s {data} 65536 512"
            subprocess.run(["qemu-io", "-f", "qcow2", "-c", write, disk], check=True, capture_output=True)
            data.unlink()

    def restore(self) -> None:
        lab = self.lab
        for path in lab.folder.iterdir():
            shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink()
        shutil.copytree(self.kept, lab.folder, symlinks=True, dirs_exist_ok=True)
        lab.env["DACHA_STATE"] = str(lab.folder / "state")

    def stop(self) -> None:
        """End every guest that was started, also one that is in no lab file any more."""
        run = Path(self.lab.env["DACHA_RUN"])
        if not any(run.rglob("qmp")):
            return
        rescue = self.lab.folder / "rescue.toml"
        rescue.write_text('[lab]\nname = "pier"\n')
        for state in ("state", "state2"):
            kept = self.lab.folder / state / "labs/pier"
            if kept.is_dir():
                (kept / "lab.json").unlink(missing_ok=True)
                env = {"DACHA_STATE": str(kept.parents[1])}
                self.lab("stop", "--all", "--force", "--wait", "0s", "--lab", str(rescue), code=None, env=env)
        for left in run.rglob("qmp"):
            left.unlink()

    def _others(self) -> dict[str, str]:
        """Every file that is not the lab's: those must stay, byte for byte."""
        top = self.lab.folder
        mine = ("state/", "state2/", "home/", "out/", "lab.toml")
        return {
            name: what
            for name, what in tree(top).items()
            if not name.startswith(mine) and not (name.startswith("storage/web.0.") and name.endswith(".qcow2"))
        }

    def run(self, action: Action, model: Model) -> Run:
        """Run one command and look at all that must hold after it."""
        lab, before = self.lab, self.lab.file.read_bytes()
        files = tree(lab.folder, NOTES) if action.reads else {}
        done = lab(*shlex.split(quoted(action.words)), code=None)
        assert done.code in (0, 1, 2, 3), done
        if done.code == 0:
            action.effect(model)
        if done.code == 0 and action.moves:
            lab.env["DACHA_STATE"] = str(lab.folder / action.words.split()[-1])
        if done.code in (2, 3) and not action.words.startswith("apply"):
            assert lab.file.read_bytes() == before, done
        if action.reads:
            assert tree(lab.folder, NOTES) == files, done
        self.look(model, done)
        return done

    def undo(self, action: Action, model: Model) -> None:
        """Take a command back, where it can be."""
        opposite = next((a for a in ACTIONS if a.words == action.undo), Action(action.undo, moves=action.moves))
        if " rename " in action.undo:
            old, new = action.undo.split()[2:4]
            opposite = opposite._replace(effect=lambda m: m.renamed(old, new))
        self.run(opposite, model)

    def look(self, model: Model, done: object) -> None:
        assert self._others() == self.others, done
        assert disks_found(self.lab) == model.disks, done
        found = keys_found(self.lab)
        for guest, key in model.keys.items():
            assert found.get(guest, key) == key, (guest, done)

    def settled(self, model: Model) -> None:
        """After an apply that succeeded another one has nothing to do, and the commands that look agree."""
        if self.run(next(a for a in ACTIONS if a.words == "apply --no-wait"), model).code:
            return
        lab = self.lab
        assert "everything applied" in (said := lab("diff", code=None)).out.lower() or waits(said.out), said
        assert lab("check", code=None).code == 0


def waits(diff: str) -> bool:
    """A running guest may have changes that wait for its next start."""
    return "next start" in diff or "restart" in diff


def quoted(words: str) -> str:
    """A public key is one word of a command line."""
    return words.replace(KEY, f"'{KEY}'")
