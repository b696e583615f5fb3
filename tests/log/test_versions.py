"""The lab file as it was: compared with this host, and put back."""

from __future__ import annotations

import json
import time
from pathlib import Path

from dacha.engine.log import changes
from tests.conftest import Lab

LAB = '# the first\n[lab]\nname = "tides"\n[network.pier]\nkind = "nat"\nsubnet = "10.77.9.0/24"\n'


def moments(lab: Lab) -> list[str]:
    return sorted(p.stem for p in (lab.folder / "state/labs/tides/versions").glob("*.toml"))


def test_an_earlier_version_is_compared_and_put_back_with_its_comments(lab: Lab) -> None:
    lab.write(LAB)
    lab("apply")
    lab("apply")  # the same again is no version
    first = time.time()
    time.sleep(1.1)
    lab("network", "add", "quay", "--subnet", "10.77.10.0/24")
    lab("apply")
    assert len(moments(lab)) == 2
    lab.file.write_text(lab.file.read_text() + "# not applied yet\n")
    second = lab.file.read_text()
    at = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(first + 1))
    assert lab("diff", "--as-of", at).out == "tides: everything applied\n"
    assert lab.file.read_text() == second
    said = lab("apply", "--as-of", at)
    assert "the lab file is as it was applied at" in said.err and lab.file.read_text() == LAB
    assert "is again as it was applied at" in lab("log").out
    # What was there before is not lost.
    time.sleep(1.1)
    now = time.strftime("%H:%M:%S")
    kept = [Path(p).read_text() for p in (lab.folder / "state/labs/tides/versions").glob("*.toml")]
    assert second in kept
    lab("apply", "--as-of", now)
    assert lab.file.read_text() == LAB
    kinds = [json.loads(line)["kind"] for line in lab("log", "--json").out.splitlines()]
    assert kinds.count("applied") == 3 and kinds.count("restored") == 1


def test_what_cannot_be_put_back_changes_nothing(lab: Lab) -> None:
    lab.write(LAB)
    assert "it was never applied" in lab("diff", "--as-of", "1 h", code=2).err
    lab("apply")
    text = lab.file.read_text()
    for when, words in (
        ("1 h", "no version of the lab tides is known from then"), ("2020-01-01", "the oldest version was applied at"),
        ("last spring", "is not a time"), ("-1 h", "is not a time"), ("99999 d", "no version"),
    ):  # fmt: skip
        for command in ("diff", "apply"):
            assert words in lab(command, f"--as-of={when}", code=2).err, when
    (lab.folder / f"state/labs/tides/versions/{moments(lab)[0]}.toml").write_text("[lab\n")
    assert "this is the version of" in lab("apply", "--as-of", "0 s", code=2).err
    assert lab.file.read_text() == text
    (lab.folder / f"state/labs/tides/versions/{moments(lab)[0]}.toml").write_text('[lab]\nname = "ebbs"\n')
    assert "the lab was named ebbs" in lab("apply", "--as-of", "0 s", code=2).err
    assert lab.file.read_text() == text


def test_only_so_many_versions_are_kept(lab: Lab, monkeypatch: object) -> None:
    most = changes.VERSIONS_MOST
    folder = lab.folder / "state/labs/tides/versions"
    lab.write(LAB)
    lab("apply")
    for n in range(most + 5):
        (folder / f"{n}.000.toml").write_text(f"# {n}\n")
    lab.file.write_text(LAB + "# another\n")
    lab("apply")
    assert len(moments(lab)) == most and "0.000" not in moments(lab)
