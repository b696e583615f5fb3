"""What apply would refuse is told by every command that looks, and keeps no other guest from its own."""

from __future__ import annotations

import pytest

from dacha.engine.disks.storages import unmounted
from tests.conftest import Lab

LAB = """\
[lab]
name = "pier"
accelerator = "tcg"
[storage.big]
path = "big"
[network.inner]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
memory = "64 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "inner", address = "10.77.4.20" }]
[guest.birch]
memory = "64 MiB"
@BIRCH@
"""
ADAPTER = 'adapter = [{ network = "inner", address = "10.77.4.21" }]'
# What is wrong with birch, and the words for it.
WRONG = {
    f'disk = [{{ from = "gone.qcow2" }}]\n{ADAPTER}': "no image",
    f'disk = [{{ size = "1 MiB", storage = "big" }}]\n{ADAPTER}': "storage big",
    f'boot = {{ kernel = "vmlinuz" }}\n{ADAPTER}': "no readable file for kernel",
    f'disk = [{{ size = "1 MiB" }}]\nlogin = {{ user = "ops", keys = ["nobody.pub"] }}\n{ADAPTER}': "nobody.pub",
}


@pytest.mark.parametrize("birch", WRONG, ids=WRONG.values())
def test_what_apply_refuses_is_told_by_all_and_keeps_no_other_guest_off(lab: Lab, birch: str) -> None:
    words = WRONG[birch]
    lab.write(LAB.replace("@BIRCH@", birch))
    for command in (("check",), ("diff",), ("status",)):
        done = lab(*command, code=None)
        assert words in done.out and done.code == (0 if command == ("status",) else 1), done
    assert "would refuse birch" in lab("diff", code=1).out
    for command in ("diff", "status"):
        refused = lab(command, "--json", code=None).json["refused"]
        assert [r["subject"] for r in refused] == ["guest birch"] and words in refused[0]["what"]
    said = lab("apply", "--no-wait", code=3)
    assert "guest gauge" in said.out and "started" in said.out and words in said.err
    assert lab("status", "gauge", "--json").json["guests"][0]["state"] == "on"
    assert "gauge" not in lab("status", "birch").out.partition("GUEST")[2]
    assert "started" not in lab("start", "birch", "--no-wait", code=3).out
    # Once it is mended, all of it is applied.
    lab.write(LAB.replace("@BIRCH@", f'disk = [{{ size = "1 MiB" }}]\n{ADAPTER}'))
    assert "refuse" not in lab("status").out + lab("diff").out
    lab("apply", "--no-wait")
    assert "guest birch" not in lab("diff").out
    lab("stop", "--all", "--force", "--wait", "0s")


def test_what_keeps_the_whole_lab_from_being_applied_is_told_by_all(lab: Lab) -> None:
    bridged = '[network.quay]\nkind = "bridge"\ninterface = "dacha-none0"\n'
    birch = 'disk = [{ size = "1 MiB" }]\nadapter = [{ network = "quay" }]\n'
    lab.write(LAB.replace("@BIRCH@", birch + bridged))
    for command in (("check",), ("diff",), ("status",), ("apply", "--no-wait")):
        done = lab(*command, code=None)
        assert "dacha-none0" in done.out + done.err or "only root" in done.out + done.err, done
    assert "would refuse the lab" in lab("diff", code=1).out


def test_a_mount_point_without_its_disk_is_no_place_for_disks(tmp_path) -> None:  # type: ignore[no-untyped-def]
    table = tmp_path / "fstab"
    table.write_text(f"# disks\nUUID=1 {tmp_path}/a\\040b ext4 defaults 0 2\ntmpfs / tmpfs\nswap none swap\n")
    inner = tmp_path / "a b/lab"
    inner.mkdir(parents=True)
    assert unmounted(inner, table) == tmp_path / "a b"
    assert unmounted(tmp_path / "c", table) is None and unmounted(inner, tmp_path / "none") is None


def test_a_disk_whose_storage_was_changed_is_moved(lab: Lab) -> None:
    disk = 'disk = [{ size = "1 MiB", storage = "big" }]'
    (lab.folder / "big").mkdir()
    lab.write(LAB.replace("@BIRCH@", f"{disk}\n{ADAPTER}"))
    lab("apply", "--no-wait")
    lab("stop", "--all", "--force", "--wait", "0s")
    link = next((lab.folder / "state").glob("labs/pier/guests/birch/disk-0.qcow2"))
    before = link.read_bytes()
    for storage in ("", ', storage = "big"'):
        lab.write(LAB.replace("@BIRCH@", f'disk = [{{ size = "1 MiB"{storage} }}]\n{ADAPTER}'))
        (change,) = [c for c in lab("diff", "--json", code=None).json["changes"] if c["change"] == "move-disk"]
        assert change["what"].endswith("storage big" if storage else "the state folder")
        assert "moved disk 0" in lab("apply", "--no-wait", code=None).out
        assert link.read_bytes() == before and link.is_symlink() is bool(storage)
