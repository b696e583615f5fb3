"""A guest in one file: the same contents elsewhere, and nothing of a file that is not whole."""

from __future__ import annotations

import io
import json
import os
import random
import subprocess
import tarfile
from collections.abc import Callable
from pathlib import Path

import pytest
import zstandard

from dacha.core.archive.manifest import BLOCK, Seal, block_name, manifest_from
from dacha.core.errors import AnswerNo, PeerError
from dacha.engine.archive.reading import check
from tests.conftest import PROGRAM, Lab
from tests.states.test_copying import TWO, contents
from tests.states.test_snapshots import killed

# So many archives are damaged at random; DACHA_DAMAGE for more.
DAMAGE = int(os.environ.get("DACHA_DAMAGE", "150"))
OTHER = '[lab]\nname = "other"\n[network.inside]\nkind = "nat"\n'


@pytest.fixture
def two(lab: Lab) -> Lab:
    drawn = random.Random(1)
    (lab.folder / "base.raw").write_bytes(bytes(510) + b"\x55\xaa" + drawn.randbytes(1 << 20) + bytes((1 << 20) - 512))
    lab.write(TWO)
    lab("apply", "--no-wait")
    return lab


def elsewhere(lab: Lab) -> Lab:
    """Another lab, with a state folder of its own, as on another host."""
    folder = lab.folder / "elsewhere"
    folder.mkdir(exist_ok=True)
    made = Lab(folder, Path(lab.env["DACHA_RUN"]) / "elsewhere")
    made.env["HOME"] = lab.env["HOME"]
    made.env["DACHA_SHARED"] = str(folder / "shared")
    made.write(OTHER)
    return made


def unpacked(path: Path) -> list[tuple[str, bytes]]:
    with tarfile.open(path) as tar:
        return [(m.name, tar.extractfile(m).read()) for m in tar]  # type: ignore[union-attr]


def packed(members: list[tuple[str, bytes]], *, sealed: bool = True) -> bytes:
    """An archive of these members, with a right end unless it is in them."""
    seal, out = Seal(), io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as tar:
        for name, data in members:
            seal.add(name, data)
            info = tarfile.TarInfo(name)
            info.size = len(data)
            tar.addfile(info, io.BytesIO(data))
        if sealed:
            info = tarfile.TarInfo("end.json")
            info.size = len(seal.text())
            tar.addfile(info, io.BytesIO(seal.text().encode()))
    return out.getvalue()


@pytest.mark.parametrize("on", [True, False], ids=["running", "off"])
def test_a_guest_is_loaded_elsewhere_with_the_same_contents(two: Lab, on: bool) -> None:
    lab = two
    if not on:
        lab("stop", "gauge", "--force", "--wait", "0s")
    said = lab("guest", "save", "gauge", "gauge.guest")
    assert "saved to gauge.guest" in said.out
    assert "already exists" in lab("guest", "save", "gauge", "gauge.guest", code=2).err
    assert "The archive is whole: gauge of the lab states" in lab("guest", "load", "gauge.guest", "--check").out
    # Open formats: what anybody's tar and zstd make of it.
    members = dict(unpacked(lab.folder / "gauge.guest"))
    assert zstandard.ZstdDecompressor().decompress(members[block_name("0", 0)], max_output_size=BLOCK)[:4] == b"QFI\xfb"
    assert "host_key" not in members
    other = elsewhere(lab)
    assert "which this lab does not have" in other("guest", "load", "../gauge.guest", code=2).err
    other("guest", "load", "../gauge.guest", "heron", "--network", "inside")
    for disk in ("0", "second"):
        assert contents(other, "heron", disk) == contents(lab, "gauge", disk)
    other("apply", "--no-wait")
    other("stop", "--all", "--force", "--wait", "0s")
    # The same through a pipe.
    line = f"{PROGRAM} guest save gauge - | (cd elsewhere && {' '.join(f'{k}={v}' for k, v in other.env.items())} "
    line += f"{PROGRAM} guest load - tern --network inside)"
    done = subprocess.run(["sh", "-c", line], cwd=lab.folder, env=lab.env, capture_output=True, text=True, check=False)
    assert done.returncode == 0 and "guest tern" in done.stdout, done
    assert contents(other, "tern") == contents(lab, "gauge")


def test_an_archive_that_was_damaged_anywhere_is_found_before_anything_changes(two: Lab) -> None:
    lab, drawn = two, random.Random(int(os.environ.get("DACHA_SEED", "9")))
    lab("guest", "save", "gauge", "gauge.guest")
    whole = (lab.folder / "gauge.guest").read_bytes()
    meaningful = len(whole.rstrip(b"\0"))
    found, said = 0, set[str]()
    for _ in range(DAMAGE):
        data = bytearray(whole)
        if drawn.random() < 0.4:
            del data[drawn.randrange(meaningful) :]
        else:
            at = drawn.randrange(meaningful)
            data[at] ^= drawn.randrange(1, 256)
        try:
            manifest = check(io.BytesIO(bytes(data)), lambda share: None)
        except AnswerNo as e:
            found += 1
            said.add(e.what[:40])
            continue
        # Only what means nothing may differ: a time, an owner, a mode of a member.
        assert manifest.disks == check(io.BytesIO(whole), lambda share: None).disks
        assert [d for _, d in unpacked_bytes(bytes(data))] == [d for _, d in unpacked_bytes(whole)]
    print(f"{found} of {DAMAGE} refused: {sorted(said)}")
    assert found > DAMAGE * 0.8
    other = elsewhere(lab)
    (other.folder / "cut.guest").write_bytes(whole[: meaningful // 2])
    before = other.file.read_text()
    for words in (["guest", "load", "cut.guest", "--network", "inside"], ["guest", "load", "cut.guest", "--check"]):
        done = other(*words, code=1)
        assert "ends before it is complete" in done.err, done
    with (other.folder / "cut.guest").open("rb") as stream:
        done = other("guest", "load", "-", "--network", "inside", code=1, stdin=stream)
    assert other.file.read_text() == before
    assert not [*(other.folder / "state/labs").glob("*/guests/*")]


def unpacked_bytes(data: bytes) -> list[tuple[str, bytes]]:
    with tarfile.open(fileobj=io.BytesIO(data)) as tar:
        return [(m.name, tar.extractfile(m).read()) for m in tar]  # type: ignore[union-attr]


def described(raw: dict[str, object], **changes: object) -> bytes:
    return json.dumps(raw | changes).encode()


def test_an_archive_with_bad_contents_is_refused_in_words(two: Lab) -> None:
    lab = two
    lab("guest", "save", "gauge", "gauge.guest")
    members = unpacked(lab.folder / "gauge.guest")[:-1]
    raw = json.loads(members[0][1])
    foreign = lab.folder / "foreign.qcow2"
    subprocess.run(
        ["qemu-img", "create", "-q", "-f", "qcow2", "-b", "/etc/passwd", "-F", "raw", "-u", foreign, "8M"], check=True
    )
    image = zstandard.ZstdCompressor(write_checksum=True).compress(foreign.read_bytes())
    disk = raw["disks"][0] | {"length": foreign.stat().st_size, "size": 8 << 20}

    def with_first(**changes: object) -> list[tuple[str, bytes]]:
        return [("dacha-guest.json", described(raw, **changes)), *members[1:]]

    given = [{"path": "/x", "from": "/etc/shadow"}]
    cases: dict[str, tuple[Callable[[], bytes], str]] = {
        "newer": (lambda: packed(with_first(version=99)), "written by a newer dacha (version 99)"),
        "another architecture": (lambda: packed(with_first(architecture="s390x")), "is a guest for s390x"),
        "no description": (lambda: packed(members[1:]), "not an archive of a guest"),
        "no end": (lambda: packed(members, sealed=False), "ends before it is complete"),
        "a path out of its folder": (lambda: packed([*members, ("../../etc/x", b"x")]), "does not belong to it"),
        "a disk of another name": (
            lambda: packed([*members, (block_name("nine", 0), b"x")]), "does not belong to it",
        ),
        "a huge disk": (lambda: packed(with_first(disks=[raw["disks"][0] | {"length": 1 << 60}])), "not possible"),
        "no room": (
            lambda: packed(with_first(disks=[raw["disks"][0] | {"length": 1 << 45}])[:1]), "no room for gauge",
        ),
        "a file of this host below its disk": (
            lambda: packed([("dacha-guest.json", described(raw, disks=[disk])), (block_name("0", 0), image)]),
            "an image that is not what it says",
        ),
        "a table that is none": (lambda: packed(with_first(table=[])), "is not a table"),
        "a file of this host": (
            lambda: packed(with_first(table=raw["table"] | {"setup": {"file": given}})),
            "it would be given a file of this host: /etc/shadow",
        ),
        "a key that no guest has": (lambda: packed(with_first(table=raw["table"] | {"speed": 9})), "unknown key"),
    }  # fmt: skip
    other = elsewhere(lab)
    before = other.file.read_text()
    for name, (make, words) in cases.items():
        (other.folder / "bad.guest").write_bytes(make())
        done = other("guest", "load", "bad.guest", "heron", "--network", "inside", code=None)
        assert done.code in (1, 2, 3) and words in done.err, (name, done)
        assert other.file.read_text() == before, name
        assert not [*(other.folder / "state/labs").glob("*/guests/*")], name


@pytest.mark.parametrize("text", [b"", b"[]", b"{}", b"null", b'{"version": "x"}', b"\xff", b"[" * 5000])
def test_a_malformed_description_is_an_error(text: bytes) -> None:
    with pytest.raises(PeerError):
        manifest_from(text)


def test_a_killed_command_leaves_nothing(two: Lab) -> None:
    lab, drawn = two, random.Random(6)
    lab("guest", "save", "gauge", "whole.guest")
    folder = lab.guest_folder("gauge").parent
    for n in range(5):
        killed(lab, ["guest", "save", "gauge", f"part{n}.guest"], drawn.uniform(0.2, 0.4))
        killed(lab, ["guest", "load", "whole.guest", f"copy{n}"], drawn.uniform(0.15, 0.5))
        lab("apply", "--no-wait")
        known = {g["name"] for g in lab("guest", "list", "--json").json["guests"]}
        assert {p.name for p in folder.iterdir()} == known, n
        whole = list(lab.folder.glob("*.guest"))
        for path in whole:
            lab("guest", "load", path.name, "--check")
    lab("guest", "save", "gauge", "last.guest")
    assert [p.name for p in lab.guest_folder("gauge").iterdir() if p.name.startswith(".archive")] == []
