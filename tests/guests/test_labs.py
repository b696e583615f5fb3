"""The life of a lab: listed, renamed, renumbered, moved, removed, and nothing of it lost on the way."""

from __future__ import annotations

import json
import shutil
import subprocess
import tomllib
from pathlib import Path

import pytest

from tests.conftest import Lab
from tests.guests.test_kept import RAW, apply


@pytest.fixture
def kept(lab: Lab) -> Lab:
    """A lab with a guest whose disk lies on a medium, and one whose disk lies on an image beside the lab file."""
    pier = lab.folder / "pier"
    pier.mkdir()
    (lab.folder / "base.raw").write_bytes(RAW)
    lab("media", "add", "base.raw")
    lab.file = pier / "lab.toml"
    (pier / "lab.toml").write_text('[lab]\nname = "pier"\n# the tide laboratory\n')
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", pier / "own.qcow2", "1M"], check=True)
    lab.env["DACHA_LAB"] = str(pier / "lab.toml")
    lab("guest", "add", "gauge", "--from", "base", "--disk", "1MiB", "--memory", "64MiB", "--network", "inside", code=2)
    lab("guest", "add", "gauge", "--from", "base", "--disk", "1MiB", "--memory", "64MiB", "--door", "ssh")
    lab("guest", "add", "shed", "--from", str(pier / "own.qcow2"), "--disk", "1MiB", "--memory", "64MiB")
    apply(lab)
    return lab


def home(lab: Lab, state: str = "state") -> Path:
    return lab.folder / state / "labs/pier"


def whole(disk: Path) -> bool:
    """True when a disk and all that it lies on can be read."""
    done = subprocess.run(["qemu-img", "check", "-q", disk], capture_output=True, check=False)
    chain = subprocess.run(["qemu-img", "info", "--backing-chain", disk], capture_output=True, check=False)
    return done.returncode == 0 and chain.returncode == 0


def test_what_is_kept_of_labs_is_listed_and_shown(kept: Lab) -> None:
    lab = kept
    (row,) = lab("lab", "list", "--json").json["labs"]
    assert row["name"] == "pier" and row["file_there"] and row["size_bytes"] > 100_000
    said = lab("lab", "show").out
    assert "gauge off 0: 1 MiB, on base" in " ".join(said.split()) and "host key" in said and str(lab.file) in said
    lab("guest", "remove", "shed")
    apply(lab)
    assert "removed" in lab("lab", "show", "pier").out
    assert "disks 0 of shed, kept after it was removed" in lab("host", code=None).out
    said = lab("lab", "show", "peer", code=2).err
    assert "no lab named peer" in said and "did you mean pier?" in said
    lab.file.rename(lab.folder / "elsewhere.toml")
    assert "which no longer exists" in lab("lab", "list").out
    left = lab("host", "--json", code=None).json["left_over"]
    assert (
        left == [{"what": left[0]["what"], "remedy": "dacha lab show pier"}] and "no longer exists" in left[0]["what"]
    )


def everything(folder: Path) -> dict[str, bytes]:
    """The disks and host keys below a lab's folder."""
    files = [*folder.glob("guests/*/host_key*"), *folder.glob("guests/*/disk-*.qcow2")]
    return {str(f.relative_to(folder)): f.read_bytes() for f in files}


def test_a_lab_keeps_disks_keys_and_addresses_under_another_name(kept: Lab) -> None:
    lab = kept
    (lab.folder / "big").mkdir()
    stored = f'\n[storage.big]\npath = "{lab.folder}/big"\n[guest.tank]\nmemory = "64 MiB"\n'
    disk = 'disk = [{ size = "1 MiB", storage = "big" }]\nadapter = [{ network = "inside" }]\n'
    lab.file.write_text(lab.file.read_text() + stored + disk)
    lab("guest", "edit", "gauge", "--make-key")
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    before, old = everything(home(lab)), home(lab)
    adapters = [g["adapters"] for g in lab("guest", "list", "--json").json["guests"]]
    for wrong, why in (("Pier!", "a lab"), ("pier", "already"), ("", "name")):
        assert why in lab("lab", "rename", "pier", wrong, code=2).err
    said = lab("lab", "rename", "pier", "jetty").out
    assert "renamed to jetty" in said and 'name = "jetty"\n# the tide laboratory' in lab.file.read_text()
    new = lab.folder / "state/labs/jetty"
    assert everything(new) == before and not old.exists()
    assert [g["adapters"] for g in lab("guest", "list", "--json").json["guests"]] == adapters
    # The lab's own key goes by its name.
    assert (lab.file.parent / "jetty_key").exists() and not list(lab.file.parent.glob("pier_key*"))
    assert "jetty_key.pub" in lab.file.read_text() and "gauge.jetty" in (new / "known_hosts").read_text()
    said = lab("apply", "--no-wait").out
    assert "disk" not in said and "host key" not in said
    assert "storage" not in lab("check", code=None).out
    lab("start", "gauge", "--no-wait")
    assert "stop --all" in lab("lab", "rename", "jetty", "pier", code=2).err
    lab("stop", "--all", "--force", "--wait", "0s")
    assert lab("lab", "rename", "jetty", "pier", "--json").json["to"] == "pier"
    assert everything(home(lab)) == before


def test_a_lab_that_is_renamed_by_hand_is_not_a_second_one(kept: Lab) -> None:
    lab = kept
    before = everything(home(lab))
    lab.file.write_text(lab.file.read_text().replace('name = "pier"', 'name = "jetty"'))
    for command in (("check",), ("apply", "--no-wait"), ("diff",), ("start", "gauge")):
        said = lab(*command, code=None)
        assert said.code == 2 or command == ("check",), said
        assert "described the lab pier" in said.out + said.err and "dacha lab rename pier jetty" in said.out + said.err
    assert "described the lab pier" in lab("status", code=None).err
    assert not (lab.folder / "state/labs/jetty/guests").exists()
    lab("lab", "rename", "pier", "jetty")
    assert everything(lab.folder / "state/labs/jetty") == before
    assert "create disk" not in lab("diff").out
    # Killed between the lab file and the folder, the same command completes it.
    (lab.folder / "state/labs/jetty").rename(home(lab))
    lab("lab", "rename", "pier", "jetty")
    assert everything(lab.folder / "state/labs/jetty") == before
    # On purpose, in a file of its own, it is one.
    other = lab.folder / "other.toml"
    other.write_text('[lab]\nname = "quay"\n')
    assert "no problems found" in lab("check", "--lab", str(other)).out


def test_a_guest_keeps_disks_keys_and_adapters_under_another_name(kept: Lab) -> None:
    lab = kept
    folder = home(lab) / "guests"
    key = (folder / "gauge/host_key").read_text()
    before = {g["name"]: g for g in lab("guest", "list", "--json").json["guests"]}["gauge"]["adapters"]
    said = lab("guest", "rename", "gauge", "tide-gauge").out
    assert "guest tide-gauge   gauge before" in said and "their contents are kept" in said
    assert (folder / "tide-gauge/host_key").read_text() == key and not (folder / "gauge").exists()
    assert "# the tide laboratory" in lab.file.read_text() and "[guest.tide-gauge]" in lab.file.read_text()
    after = lab("guest", "show", "tide-gauge", "--json").json["adapters"]
    assert after == before
    assert "create disk" not in lab("diff").out
    said = lab("apply", "--no-wait").out
    assert "disk" not in said and "host key" not in said
    lab("start", "tide-gauge", "--no-wait")
    assert "uses its name" in lab("guest", "rename", "tide-gauge", "gauge", code=2).err
    lab("stop", "--all", "--force", "--wait", "0s")
    # Killed between the folder and the file, the next apply goes by the file.
    (folder / "tide-gauge").rename(folder / "other")
    (home(lab) / "renaming.json").write_text(json.dumps({"old": "tide-gauge", "new": "other"}))
    assert "created disk" not in apply(lab)
    assert (folder / "tide-gauge/host_key").read_text() == key and not (home(lab) / "renaming.json").exists()
    text = lab.file.read_text()
    for name, says in (("shed", "a guest shed already"), ("a b", "is not a valid name")):
        assert says in lab("guest", "rename", "tide-gauge", name, code=2).err and lab.file.read_text() == text


def test_a_network_is_renumbered_with_everything_on_it(kept: Lab) -> None:
    lab = kept
    lab("door", "edit", "gauge", "ssh", "--port", "2260")
    lab("network", "edit", "inside", "--subnet", tomllib.loads(lab.file.read_text())["network"]["inside"]["subnet"],
        "--gateway", next(a.rpartition(".")[0] for a in _addresses(lab)) + ".1")  # fmt: skip
    places = [a.rpartition(".")[2] for a in _addresses(lab)]
    said = lab("network", "edit", "inside", "--renumber", "10.99.0.0/24").out
    assert said.endswith("Next: dacha apply\n")  # neither guest is on
    assert _addresses(lab) == [f"10.99.0.{p}" for p in places]
    assert tomllib.loads(lab.file.read_text())["network"]["inside"]["gateway"] == "10.99.0.1"
    before = lab.file.read_text()
    assert (
        "does not fit into 10.98.0.0/29" in lab("network", "edit", "inside", "--renumber", "10.98.0.0/29", code=2).err
    )
    assert lab.file.read_text() == before


def _addresses(lab: Lab) -> list[str]:
    guests = tomllib.loads(lab.file.read_text())["guest"]
    return [guests[name]["adapter"][0]["address"] for name in ("gauge", "shed")]


def test_a_lab_is_found_again_whichever_came_first_the_move_or_a_start(kept: Lab) -> None:
    """The image has another name and another place by now, and a command has seen the new file already."""
    lab = kept
    (lab.folder / "pier").rename(lab.folder / "quay")
    there = lab.folder / "quay/lab.toml"
    (lab.folder / "quay/images").mkdir()
    (lab.folder / "quay/own.qcow2").rename(lab.folder / "quay/images/base-of-shed.qcow2")
    (lab.folder / "quay/own.qcow2").write_bytes(b"another file")
    lab.env["DACHA_LAB"] = str(there)
    said = lab("start", "shed", "--no-wait", code=None)
    assert said.code != 0 and "needs the image" in said.err and "no longer exists" in said.err
    said = lab("lab", "move", "pier", "--file", str(there)).out
    assert f"shed/0 now uses {lab.folder / 'quay/images/base-of-shed.qcow2'}" in said
    there.write_text(there.read_text().replace('"own.qcow2"', '"images/base-of-shed.qcow2"'))
    assert whole(home(lab) / "guests/shed/disk-0.qcow2") and "made" not in apply(lab)


def test_a_copied_lab_file_is_told_by_commands_that_only_look(kept: Lab) -> None:
    lab = kept
    (lab.folder / "copy").mkdir()
    copy = lab.folder / "copy/lab.toml"
    copy.write_text(lab.file.read_text())
    (lab.folder / "copy/own.qcow2").symlink_to(lab.folder / "pier/own.qcow2")
    for command in ("status", "diff"):
        assert f"was applied from {lab.file}, another file" in lab(command, "--lab", str(copy), code=None).err
    assert f"was applied from another file, {lab.file}" in lab("check", "--lab", str(copy), code=None).out
    assert lab("status").err == "" and "another file" not in lab("check", code=None).out


def test_the_register_forgets_labs_whose_state_was_deleted(kept: Lab) -> None:
    lab = kept
    shutil.rmtree(home(lab))
    said = lab("host", code=None).out
    assert "in this host's register belong to deleted labs" in said and "dacha host --clear" in said
    assert not any("register" in left["what"] for left in lab("host", "--clear", "--json").json["left_over"])
    assert lab("host", "--clear").out == "Removed 0 entries from this host's register.\n"


def test_a_lab_file_moves_and_its_disks_find_what_they_lie_on(kept: Lab) -> None:
    lab = kept
    key = (home(lab) / "guests/shed/host_key").read_text()
    (lab.folder / "pier").rename(lab.folder / "quay")
    there = lab.folder / "quay/lab.toml"
    lab.env["DACHA_LAB"] = str(there)
    said = lab("lab", "move", "pier", "--file", str(there)).out
    assert f"shed/0 now uses {lab.folder / 'quay/own.qcow2'}" in said and "now uses the lab file" in said
    assert whole(home(lab) / "guests/shed/disk-0.qcow2")
    lab.file = there
    assert "made" not in apply(lab) and (home(lab) / "guests/shed/host_key").read_text() == key
    (lab.folder / "other.toml").write_text('[lab]\nname = "other"\n')
    assert "this is the lab other" in lab("lab", "move", "pier", "--file", str(lab.folder / "other.toml"), code=2).err
    (lab.folder / "quay/own.qcow2").unlink()
    said = lab("lab", "move", "pier", "--file", str(there), code=3).err
    assert "shed/0 needs the image" in said and "move the image back" in said


def test_a_lab_moves_to_another_state_folder_with_its_media(kept: Lab) -> None:
    lab = kept
    key = (home(lab) / "guests/gauge/host_key").read_text()
    new = lab.folder / "big disk"
    lab("start", "gauge", "--no-wait")
    assert "guests of pier are on" in lab("lab", "move", "pier", "--state", str(new), code=2).err
    lab("stop", "--all", "--force", "--wait", "0s")
    said = lab("lab", "move", "pier", "--state", str(new)).out
    assert "medium" in said and "base copied" in said and said.endswith(f"Next: dacha apply --lab {lab.file}\n")
    # Plain commands find it as before; nothing is made anew, also while the disk with it is not mounted.
    assert "made" not in lab("apply", "--no-wait").out and "gauge" in lab("lab", "show", "pier").out
    lab("stop", "--all", "--force", "--wait", "0s")
    new.rename(lab.folder / "unmounted")
    for command in (("apply", "--no-wait"), ("diff",), ("start", "gauge")):
        assert "which does not exist" in lab(*command, code=3).err
    assert "which does not exist" in lab("check", code=1).out
    (lab.folder / "unmounted").rename(new)
    assert not (home(lab) / "guests/gauge").is_symlink() and (home(lab) / "guests/gauge/host_key").read_text() == key
    # There, and back again.
    lab("lab", "move", "pier", "--state", str(lab.folder / "state"))
    assert not home(lab).is_symlink() and (home(lab) / "guests/gauge/host_key").read_text() == key
    (home(lab, "big disk")).unlink()
    lab("lab", "move", "pier", "--state", str(new))
    lab.env["DACHA_STATE"] = str(new)
    assert lab("media", "remove", "base", code=2).err.startswith("error: base stays: disks are based on it")
    (lab.folder / "state/media/base.img").unlink()  # what is in the old place is not needed any more
    disk = home(lab, "big disk") / "guests/gauge/disk-0.qcow2"
    assert whole(disk) and (disk.parent / "host_key").read_text() == key
    assert "made" not in lab("apply", "--no-wait").out
    lab("stop", "--all", "--force", "--wait", "0s")
    assert "already uses this folder" in lab("lab", "move", "pier", "--state", str(new), code=2).err


def test_a_lab_is_removed_with_everything_named(kept: Lab) -> None:
    lab = kept
    lab("start", "gauge", "--no-wait")
    said = lab("lab", "remove", "pier", "--with-disks", code=2).err
    assert "gauge of pier is on" in said and "dacha stop --all" in said
    lab("stop", "--all", "--force", "--wait", "0s")
    said = lab("lab", "remove", "pier", code=2).err
    assert "gauge/0 (1 MiB, on base" in said and "shed/0" in said and "--with-disks" in said
    assert whole(home(lab) / "guests/gauge/disk-0.qcow2")
    shown = lab("lab", "remove", "pier", "--with-disks", "--dry-run").out
    assert "would be deleted of" in shown and "host key" in shown and home(lab).exists()
    said = lab("lab", "remove", "pier", "--with-disks", code=2)
    assert "would be deleted of" in said.out and "use --yes" in said.err and home(lab).exists()
    said = lab("lab", "remove", "pier", "--with-disks", "--yes").out
    assert "disk 0 deleted" in said and "host key" in said and "Everything of pier was removed" in said
    assert not home(lab).exists() and lab.file.exists() and (lab.folder / "pier/own.qcow2").exists()
    assert lab("lab", "list").out.startswith("No lab is known")
    assert "Medium base was deleted" in _without_lab(lab)


def _without_lab(lab: Lab) -> str:
    """The medium goes when nobody names it any more."""
    lab.file.unlink()
    del lab.env["DACHA_LAB"]
    return lab("media", "remove", "base").out
