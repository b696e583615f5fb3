"""System profiles: data that fills what a guest leaves out."""

from pathlib import Path

import pytest

from dacha.core.lab.families import FAMILIES, enable_command, family_of, install_command
from dacha.core.lab.model import SYSTEMS
from dacha.core.lab.table.profile import PLAIN, read_profile
from dacha.core.lab.table.read import read_lab
from dacha.formats.seed.setup import AUTOMATIC
from tests.conftest import Lab

FOLDER = Path(__file__).parents[2] / "src/dacha/profiles"
WINDOWS = read_profile("windows", (FOLDER / "windows.toml").read_text())[0]


@pytest.mark.parametrize("path", sorted(FOLDER.glob("*.toml")), ids=lambda p: p.stem)
def test_each_profile_of_ours_is_right_and_above_its_own_minimum(path: Path) -> None:
    profile, findings = read_profile(path.stem, path.read_text())
    assert findings == [] and path.stem in SYSTEMS
    for key in ("cpus", "memory", "disk"):
        least = getattr(profile.minimum, key)
        assert least is None or least <= getattr(profile, key)


def test_every_system_has_a_profile() -> None:
    assert {p.stem for p in FOLDER.glob("*.toml")} == set(SYSTEMS)


def test_a_wrong_profile_says_what() -> None:
    _, findings = read_profile("mine", 'memroy = "1 GiB"\nbus = "ide"\n')
    assert {f.code for f in findings} == {"unknown-key", "value"}


def test_a_profile_fills_what_is_left_out_and_nothing_else() -> None:
    text = '[lab]\nname = "x"\n[guest.a]\nsystem = "windows"\nmemory = "8 GiB"\ndisk = [{ size = "64 GiB" }]\n'
    lab = read_lab(text, {"windows": WINDOWS, "linux": PLAIN}).lab
    assert lab is not None
    guest = lab.guests["a"]
    assert (guest.cpus, guest.memory, guest.firmware, guest.clock) == (2, 8 << 30, "uefi", "local")
    assert guest.disks[0].bus == "sata"


def test_an_administrators_own_profile_and_a_minimum(lab: Lab) -> None:
    own = lab.folder / "home/.config/dacha/profiles"
    own.mkdir(parents=True)
    (own / "tideos.toml").write_text('memory = "96 MiB"\ndisk = "2 GiB"\nminimum = { memory = "64 MiB" }\n')
    lab("new", "pier")
    lab("guest", "add", "gauge", "--system", "tideos")
    assert 'memory = "96 MiB"' in lab.file.read_text() and 'size = "2 GiB"' in lab.file.read_text()
    shown = lab("guest", "show", "gauge").out
    values = {line[:19].strip(): line.split("  ")[-1].strip() for line in shown.partition("VALUE")[2].splitlines()[1:]}
    assert values["memory"].startswith("lab.toml:") and values["disk 0"].startswith("lab.toml:")
    assert values["cpus"] == "Dacha's default" and values["adapter 0 hardware"] == "the plan"
    own.joinpath("tideos.toml").write_text('cpus = 2\nmemory = "96 MiB"\nminimum = { memory = "64 MiB" }\n')
    assert str(own / "tideos.toml") in next(
        x for x in lab("guest", "show", "gauge").out.splitlines() if x[:4] == "cpus"
    )
    lab("guest", "edit", "gauge", "--memory", "32MiB")
    assert "memory: 32 MiB is less than tideos needs (64 MiB)" in lab("check").out
    own.joinpath("tideos.toml").write_text('minimum = { memory = "16 MiB", installer-memory = "48 MiB" }\n')
    assert "is less than" not in lab("check").out
    lab.file.write_text(lab.file.read_text().replace("\n[guest.gauge]", '\n[guest.gauge]\ninstall = "./tideos.iso"'))
    assert "memory: 32 MiB is less than tideos's installer needs (48 MiB)" in lab("check", code=None).out
    assert "did you mean tideos?" in lab("guest", "edit", "gauge", "--system", "tideso", code=2).err
    (own / "tideos.toml").write_text("memory = 96")
    assert "has no unit" in lab("status", code=2).err


def test_every_family_has_its_row_its_profile_and_its_line_in_the_page() -> None:
    page = (FOLDER.parents[2] / "docs/lab-file.md").read_text()
    for name, family in FAMILIES.items():
        assert (FOLDER / f"{name}.toml").is_file() and f"`{name}`" in page, name
        assert not family.whole_setup or (family.manager in AUTOMATIC and family.shell), name
        assert not family.manager or (install_command(name, "x") and enable_command(name, "x")), name
    assert family_of("tideos") == FAMILIES["linux"] and install_command("tideos", "x") == ""
